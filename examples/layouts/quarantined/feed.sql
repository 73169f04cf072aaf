CREATE TABLE tree_feed (seq INTEGER PRIMARY KEY, verb TEXT, tree_id INTEGER, species TEXT, height_m REAL);
INSERT INTO tree_feed VALUES
  (1, 'plant',   1,    'oak', 1.5),
  (2, 'Measure', 1,    'oak', 1.6),
  (3, 'plant',   NULL, 'elm', 2.0),
  (4, 'measure', 1,    'oak', 1.7);
