CREATE TABLE tree_history (tree_id INTEGER, species TEXT, since TIMESTAMP, until TIMESTAMP, PRIMARY KEY (tree_id, since));
INSERT INTO tree_history VALUES
  (1, 'oak', '2026-05-04 09:00:00', '2026-05-04 11:00:00'),
  (1, 'red oak', '2026-05-04 11:00:00', NULL),
  (2, 'elm', '2026-05-04 09:30:00', NULL),
  (3, 'ash', '2099-01-01 00:00:00', NULL);
