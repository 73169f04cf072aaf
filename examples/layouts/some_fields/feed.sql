CREATE TABLE tree_patches (seq INTEGER PRIMARY KEY, verb TEXT, fields TEXT, tree_id INTEGER, species TEXT, height_m REAL, note TEXT);
INSERT INTO tree_patches VALUES
  (1, 'plant', NULL,            1, 'oak', 1.5,  'by the pump'),
  (2, 'edit',  'height_m',      1, NULL,  1.7,  NULL),
  (3, 'edit',  'height_m,note', 1, NULL,  1.75, NULL);
