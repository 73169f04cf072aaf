-- A database with a stream that forgets what a transaction has read from it.
CREATE SCHEMA stream;
CREATE TABLE stream.waiting (number bigserial PRIMARY KEY, what text NOT NULL, tree_id int NOT NULL, species text, height_m numeric(5,2), ward text);
CREATE FUNCTION stream.note() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP <> 'INSERT' THEN
        INSERT INTO stream.waiting (what, tree_id, species, height_m, ward) VALUES ('taken away', OLD.*);
    END IF;
    IF TG_OP <> 'DELETE' THEN
        INSERT INTO stream.waiting (what, tree_id, species, height_m, ward) VALUES ('put there', NEW.*);
    END IF;
    RETURN NULL;
END $$;
CREATE FUNCTION stream.take() RETURNS SETOF stream.waiting LANGUAGE sql VOLATILE AS
    'WITH gone AS (DELETE FROM stream.waiting RETURNING *) SELECT * FROM gone ORDER BY number';
