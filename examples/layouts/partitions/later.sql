INSERT INTO tree_feed VALUES ('north', 4, 'fell', 2, NULL), ('west', 1, 'plant', 3, 'ash');
