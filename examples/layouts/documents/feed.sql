CREATE TABLE events (seq INTEGER PRIMARY KEY, doc TEXT);
INSERT INTO events VALUES
  (1, '{"verb": "plant", "tree": {"after": {"id": 1, "kind": {"name": "oak"}, "size": {"height": 1.5}}}}'),
  (2, '{"verb": "measure", "tree": {"before": {"id": 1, "kind": {"name": "oak"}, "size": {"height": 1.5}},
        "after": {"id": 1, "kind": {"name": "oak"}, "size": {"height": 1.75}}}}'),
  (3, '{"verb": "plant", "tree": {"after": {"id": 2, "kind": {"name": "elm"}}}}');
