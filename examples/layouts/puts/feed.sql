CREATE TABLE tree_feed (seq INTEGER PRIMARY KEY, action TEXT, removed INTEGER, tree_id INTEGER, species TEXT);
INSERT INTO tree_feed VALUES
  (1, 'write', 0, 1, 'oak'),
  (2, 'write', 0, 2, 'elm'),
  (3, 'write', 0, 1, 'red oak'),
  (4, 'write', 1, 2, NULL);
