-- A database that numbers its versions: of each row it keeps the version in which it last changed and whether it is still there, but
-- not what it was. What the row is now is joined to that. A flag for each column tells whether it changed since the row was added.
CREATE SCHEMA version;
CREATE TABLE version.counter (current bigint NOT NULL, minimum bigint NOT NULL);
INSERT INTO version.counter VALUES (0, 0);
CREATE TABLE version.marks (tree_id int PRIMARY KEY, changed_in bigint NOT NULL, added_in bigint, is_gone boolean NOT NULL,
    species_changed boolean NOT NULL, height_m_changed boolean NOT NULL, ward_changed boolean NOT NULL);

CREATE FUNCTION version.mark(key int, gone boolean, added boolean, flags boolean[]) RETURNS void LANGUAGE sql AS $$
    INSERT INTO version.marks SELECT key, current, CASE WHEN added THEN current END, gone, flags[1], flags[2], flags[3] FROM version.counter
    ON CONFLICT (tree_id) DO UPDATE SET changed_in = excluded.changed_in, is_gone = gone, added_in = coalesce(excluded.added_in, marks.added_in),
        species_changed = marks.species_changed OR flags[1], height_m_changed = marks.height_m_changed OR flags[2],
        ward_changed = marks.ward_changed OR flags[3];
$$;

-- Fired as the transaction commits. It takes the next number and keeps the counter's lock to its end: so numbers rise as transactions commit.
CREATE FUNCTION version.take() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE was bigint := nullif(current_setting('version.taken', true), '')::bigint;
BEGIN
    IF was IS DISTINCT FROM txid_current() THEN
        UPDATE version.counter SET current = current + 1;
        PERFORM set_config('version.taken', txid_current()::text, true);
    END IF;
    IF TG_OP <> 'INSERT' AND (TG_OP = 'DELETE' OR OLD.tree_id <> NEW.tree_id) THEN
        PERFORM version.mark(OLD.tree_id, true, false, ARRAY[true, true, true]);
    END IF;
    IF TG_OP <> 'DELETE' THEN
        PERFORM version.mark(NEW.tree_id, false, TG_OP = 'INSERT' OR OLD.tree_id <> NEW.tree_id, ARRAY[
            TG_OP = 'INSERT' OR OLD.species IS DISTINCT FROM NEW.species,
            TG_OP = 'INSERT' OR OLD.height_m IS DISTINCT FROM NEW.height_m, TG_OP = 'INSERT' OR OLD.ward IS DISTINCT FROM NEW.ward]);
    END IF;
    RETURN NULL;
END $$;

CREATE FUNCTION version.current() RETURNS bigint LANGUAGE sql STABLE AS 'SELECT current FROM version.counter';
CREATE FUNCTION version.minimum() RETURNS bigint LANGUAGE sql STABLE AS 'SELECT minimum FROM version.counter';
CREATE FUNCTION version.changes_since(after bigint) RETURNS SETOF version.marks LANGUAGE sql STABLE AS
    'SELECT * FROM version.marks WHERE changed_in > after';

-- The cleanup: of rows that are gone, what is older is forgotten.
CREATE FUNCTION version.forget(upto bigint) RETURNS void LANGUAGE sql AS $$
    DELETE FROM version.marks WHERE is_gone AND changed_in <= upto;
    UPDATE version.counter SET minimum = greatest(minimum, upto);
$$;
