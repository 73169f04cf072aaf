UPDATE tree SET height_m = 1.7 WHERE tree_id = 1;
DELETE FROM tree WHERE tree_id = 2;
INSERT INTO tree VALUES (3, 'ash', 0.6);
