CREATE TABLE tree_feed (seq INTEGER PRIMARY KEY, change INTEGER, image TEXT, tree_id INTEGER, species TEXT);
INSERT INTO tree_feed VALUES
  (1, 501, 'new row', 1, 'oak'),
  (2, 502, 'changed to', 1, 'red oak'),
  (3, 502, 'changed from', 1, 'oak'),
  (4, 503, 'changed from', 1, 'red oak'),
  (5, 503, 'changed to', 7, 'red oak');
