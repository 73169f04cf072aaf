CREATE TABLE tree (tree_id INTEGER PRIMARY KEY, species TEXT, height_m REAL);
INSERT INTO tree VALUES (1, 'oak', 1.5), (2, 'elm', 2.0);
CREATE TABLE touched (seq INTEGER PRIMARY KEY, tree_id INTEGER);
