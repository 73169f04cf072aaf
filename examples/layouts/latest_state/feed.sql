CREATE TABLE tree_state (version INTEGER PRIMARY KEY, tree_id INTEGER, species TEXT, height_m REAL, removed_at TEXT);
INSERT INTO tree_state VALUES
  (1, 1, 'oak', 1.5, NULL),
  (2, 2, 'elm', 2.0, NULL),
  (3, 1, 'oak', 1.7, NULL),
  (4, 2, 'elm', 2.0, '2026-05-05 11:10:00');
