CREATE TABLE ward (ward_id INTEGER PRIMARY KEY, name TEXT NOT NULL);
CREATE TABLE tree (
    tree_id INTEGER PRIMARY KEY, ward_id INTEGER NOT NULL REFERENCES ward, species TEXT NOT NULL, height_m REAL
);
CREATE TRIGGER grown AFTER UPDATE OF height_m ON tree WHEN NEW.height_m < 0 BEGIN
    UPDATE tree SET height_m = NULL WHERE tree_id = NEW.tree_id;
END;
INSERT INTO ward VALUES (1, 'Harbour'), (2, 'Mill Hill');
INSERT INTO tree VALUES (17, 1, 'field maple', 7.2), (42, 2, 'small-leaved lime', 15.4), (58, 2, 'wild cherry', 16.3);
