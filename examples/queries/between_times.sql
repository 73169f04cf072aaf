-- A database that gives the changes of a table between two times: each row that was there at one of them and not in the same way at the
-- other, as it was or as it is. A row's times are those at which it was written, so that a transaction that commits late brings changes of before.
CREATE SCHEMA past;
CREATE TABLE past.trees (tree_id int NOT NULL, species text, height_m numeric(5,2), ward text, begins timestamptz NOT NULL, ends timestamptz);
CREATE INDEX ON past.trees (tree_id) WHERE ends IS NULL;
CREATE TABLE past.kept (since timestamptz NOT NULL);
INSERT INTO past.kept VALUES (clock_timestamp());

CREATE FUNCTION past.keep() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE moment timestamptz := clock_timestamp();
BEGIN
    IF TG_OP <> 'INSERT' THEN
        UPDATE past.trees SET ends = moment WHERE tree_id = OLD.tree_id AND ends IS NULL;
    END IF;
    IF TG_OP <> 'DELETE' THEN
        INSERT INTO past.trees VALUES (NEW.*, moment, NULL);
    END IF;
    RETURN NULL;
END $$;

CREATE FUNCTION past.clock() RETURNS timestamptz LANGUAGE sql VOLATILE AS 'SELECT clock_timestamp()';
CREATE FUNCTION past.kept_since() RETURNS timestamptz LANGUAGE sql STABLE AS 'SELECT since FROM past.kept';

-- What was there at a time, and is not, comes as "before"; what is there, and was not, as "after". A row that differs is one of each.
CREATE FUNCTION past.changes(after timestamptz, upto timestamptz)
RETURNS TABLE (what text, is_update boolean, tree_id int, species text, height_m numeric(5,2), ward text) LANGUAGE plpgsql STABLE AS $$
BEGIN
    IF after < past.kept_since() THEN
        RAISE EXCEPTION 'the past is kept since % only', past.kept_since();
    END IF;
    RETURN QUERY
        WITH one AS (SELECT t.* FROM past.trees t WHERE t.begins <= after AND (t.ends IS NULL OR t.ends > after)),
             two AS (SELECT t.* FROM past.trees t WHERE t.begins <= upto AND (t.ends IS NULL OR t.ends > upto))
        SELECT 'before', two.tree_id IS NOT NULL, one.tree_id, one.species, one.height_m, one.ward
        FROM one LEFT JOIN two USING (tree_id) WHERE two.tree_id IS NULL OR two.begins <> one.begins
        UNION ALL
        SELECT 'after', one.tree_id IS NOT NULL, two.tree_id, two.species, two.height_m, two.ward
        FROM two LEFT JOIN one USING (tree_id) WHERE one.tree_id IS NULL OR two.begins <> one.begins;
END $$;

-- The cleanup.
CREATE FUNCTION past.forget(upto timestamptz) RETURNS void LANGUAGE sql AS $$
    DELETE FROM past.trees WHERE ends <= upto;
    UPDATE past.kept SET since = greatest(since, upto);
$$;
