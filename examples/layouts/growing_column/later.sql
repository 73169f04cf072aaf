UPDATE tree SET height_m = 1.7, changed_at = '2026-05-05 11:00:00' WHERE tree_id = 1;
INSERT INTO tree VALUES (3, 'ash', 0.6, '2026-05-04 09:04:30'); -- committed late
