CREATE TABLE tree_feed (seq INTEGER PRIMARY KEY, noted_at TEXT, noted_by TEXT, verb TEXT, tree_id INTEGER, species TEXT, height_m REAL);
INSERT INTO tree_feed VALUES
  (1, '2026-05-04T09:00:00Z', 'ida', 'plant',   1, 'oak', 1.5),
  (2, '2026-05-04T09:05:00Z', 'ida', 'plant',   2, 'elm', 2.0),
  (3, '2026-05-05T11:00:00Z', 'per', 'measure', 1, 'oak', 1.7),
  (4, '2026-05-05T11:10:00Z', 'per', 'fell',    2, NULL, NULL);
