CREATE TABLE tree_feed (office TEXT, number INTEGER, verb TEXT, tree_id INTEGER, species TEXT, PRIMARY KEY (office, number));
INSERT INTO tree_feed VALUES
  ('south', 11, 'plant', 1, 'oak'),
  ('south', 12, 'change', 1, 'red oak'),
  ('north', 3, 'plant', 2, 'elm');
