UPDATE tree SET height_m = 1.7 WHERE tree_id = 1;
DELETE FROM tree WHERE tree_id = 2;
INSERT INTO touched VALUES (1, 1), (2, 2);
