CREATE TABLE lists (list_no INTEGER PRIMARY KEY, closed_at TEXT);
INSERT INTO lists VALUES (41, '2026-05-04 17:00:00'), (42, '2026-05-05 17:00:00');
CREATE TABLE tree_changes (list_no INTEGER, line_no INTEGER, code TEXT,
  old_tree_id INTEGER, old_species TEXT, old_height_m REAL, new_tree_id INTEGER, new_species TEXT, new_height_m REAL);
INSERT INTO tree_changes VALUES
  (41, 1, 'N', NULL, NULL, NULL, 1, 'oak', 1.5),
  (41, 2, 'N', NULL, NULL, NULL, 2, 'elm', 2.0),
  (42, 1, 'M', 1, 'oak', 1.5, 1, 'oak', 1.7),
  (42, 2, 'P', 2, 'elm', 2.0, 7, 'elm', 2.0),
  (42, 3, 'F', 1, 'oak', 1.7, NULL, NULL, NULL);
