CREATE TABLE tree (tree_id INTEGER PRIMARY KEY, species TEXT, height_m REAL, changed_at TIMESTAMP);
INSERT INTO tree VALUES (1, 'oak', 1.5, '2026-05-04 09:00:00'), (2, 'elm', 2.0, '2026-05-04 09:05:00');
