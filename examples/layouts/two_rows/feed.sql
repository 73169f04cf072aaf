CREATE TABLE tree_log (entry INTEGER PRIMARY KEY, batch INTEGER, what TEXT, tree_id INTEGER, species TEXT, height_m REAL);
INSERT INTO tree_log VALUES
  (1, 10, 'planted', 1, 'oak', 1.5),
  (2, 10, 'planted', 2, 'elm', 2.0),
  (3, 11, 'stood',   1, 'oak', 1.5),
  (4, 11, 'stood',   2, 'elm', 2.0),
  (5, 11, 'stands',  1, 'oak', 1.7),
  (6, 11, 'stands',  2, 'elm', 2.2),
  (7, 12, 'felled',  2, 'elm', 2.2);
