UPDATE tree_history SET until = '2026-05-05 08:00:00' WHERE tree_id = 2;
