-- A database that captures changes as many do: an agent reads what was committed, and files each row before and after under the
-- position of its transaction, which is eight bytes. It tells them by functions, and a cleanup removes the oldest.
CREATE SCHEMA record;
CREATE SEQUENCE record.written;
-- What triggers note, until the agent files it.
CREATE TABLE record.noted (number bigint PRIMARY KEY DEFAULT nextval('record.written'), txn xid8 NOT NULL DEFAULT pg_current_xact_id(),
    code text NOT NULL, tree_id int NOT NULL, species text, height_m numeric(5,2), ward text, mask bit(3));
CREATE TABLE record.commits (count bigint NOT NULL);
INSERT INTO record.commits VALUES (0);
CREATE TABLE record.ended (txn xid8 PRIMARY KEY, number bigint NOT NULL);
CREATE TABLE record.filed (position bytea NOT NULL, number bigint NOT NULL, code text NOT NULL, tree_id int NOT NULL, species text,
    height_m numeric(5,2), ward text, mask bit(3), PRIMARY KEY (position, number));
CREATE TABLE record.moments (position bytea PRIMARY KEY, at timestamptz NOT NULL);
CREATE TABLE record.state (kept_after bytea NOT NULL, filed_upto bytea NOT NULL);
INSERT INTO record.state VALUES (int8send(0), int8send(0));

-- Four codes: "added", "removed", and "old" and "new" for an update, which is two rows. The mask tells which columns it changed.
CREATE FUNCTION record.note() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'INSERT' THEN
        INSERT INTO record.noted (code, tree_id, species, height_m, ward, mask) VALUES ('added', NEW.*, B'111');
    ELSIF TG_OP = 'DELETE' THEN
        INSERT INTO record.noted (code, tree_id, species, height_m, ward, mask) VALUES ('removed', OLD.*, B'111');
    ELSIF OLD.tree_id <> NEW.tree_id THEN
        INSERT INTO record.noted (code, tree_id, species, height_m, ward, mask) VALUES ('removed', OLD.*, B'111');
        INSERT INTO record.noted (code, tree_id, species, height_m, ward, mask) VALUES ('added', NEW.*, B'111');
    ELSE
        INSERT INTO record.noted (code, tree_id, species, height_m, ward, mask)
        SELECT code, (side).*, (OLD.species IS DISTINCT FROM NEW.species)::int::bit(1)
            || (OLD.height_m IS DISTINCT FROM NEW.height_m)::int::bit(1) || (OLD.ward IS DISTINCT FROM NEW.ward)::int::bit(1)
        FROM (VALUES (1, 'old', OLD), (2, 'new', NEW)) AS both_sides(place, code, side) ORDER BY place;
    END IF;
    RETURN NULL;
END $$;

-- As a transaction commits, it takes the next number and keeps the counter's lock to its end: so numbers rise as transactions commit.
CREATE FUNCTION record.commit_it() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF NOT EXISTS (SELECT 1 FROM record.ended WHERE txn = NEW.txn) THEN
        UPDATE record.commits SET count = count + 1;
        INSERT INTO record.ended SELECT NEW.txn, count FROM record.commits;
    END IF;
    RETURN NULL;
END $$;
CREATE CONSTRAINT TRIGGER committed AFTER INSERT ON record.noted DEFERRABLE INITIALLY DEFERRED
    FOR EACH ROW EXECUTE FUNCTION record.commit_it();

-- The agent: files what committed transactions noted, one position each.
CREATE FUNCTION record.file() RETURNS bytea LANGUAGE plpgsql AS $$
DECLARE last bigint; one record;
BEGIN
    PERFORM pg_advisory_xact_lock(7021);
    SELECT ('x' || encode(filed_upto, 'hex'))::bit(64)::bigint INTO last FROM record.state;
    FOR one IN DELETE FROM record.ended RETURNING txn, number LOOP
        INSERT INTO record.filed SELECT int8send(one.number), number, code, tree_id, species, height_m, ward, mask
            FROM record.noted WHERE txn = one.txn;
        DELETE FROM record.noted WHERE txn = one.txn;
        INSERT INTO record.moments VALUES (int8send(one.number), clock_timestamp());
        last := greatest(last, one.number);
    END LOOP;
    UPDATE record.state SET filed_upto = int8send(last);
    RETURN int8send(last);
END $$;

CREATE FUNCTION record.last_position() RETURNS bytea LANGUAGE sql STABLE AS 'SELECT filed_upto FROM record.state';
CREATE FUNCTION record.kept_after() RETURNS bytea LANGUAGE sql STABLE AS 'SELECT kept_after FROM record.state';
CREATE FUNCTION record.time_of(bytea) RETURNS timestamptz LANGUAGE sql STABLE AS 'SELECT at FROM record.moments WHERE position = $1';
CREATE FUNCTION record.position_at(timestamptz) RETURNS bytea LANGUAGE sql STABLE AS
    'SELECT position FROM record.moments WHERE at <= $1 ORDER BY position DESC LIMIT 1';

-- Such databases refuse a window whose begin is cleaned up already.
CREATE FUNCTION record.refuse_forgotten(after bytea) RETURNS void LANGUAGE plpgsql STABLE AS $$
BEGIN
    IF after < record.kept_after() THEN
        RAISE EXCEPTION 'changes are kept after % only', record.kept_after();
    END IF;
END $$;

CREATE FUNCTION record.all_changes(after bytea, upto bytea) RETURNS SETOF record.filed LANGUAGE plpgsql STABLE AS $$
BEGIN
    PERFORM record.refuse_forgotten(after);
    RETURN QUERY SELECT * FROM record.filed f WHERE f.position > after AND f.position <= upto ORDER BY f.position, f.number;
END $$;

-- One row for each tree: as it is, with what became of it in the window; nothing for one that came and went.
CREATE FUNCTION record.net_changes(after bytea, upto bytea) RETURNS TABLE (code text, tree_id int, species text, height_m numeric(5,2), ward text)
LANGUAGE plpgsql STABLE AS $$
BEGIN
    PERFORM record.refuse_forgotten(after);
    RETURN QUERY SELECT CASE WHEN last.code = 'removed' THEN 'removed' WHEN first.code = 'added' THEN 'added' ELSE 'new' END,
        last.tree_id, last.species, last.height_m, last.ward
    FROM (SELECT DISTINCT ON (f.tree_id) f.* FROM record.filed f WHERE f.position > after AND f.position <= upto
          ORDER BY f.tree_id, f.position DESC, f.number DESC) last
    JOIN (SELECT DISTINCT ON (f.tree_id) f.* FROM record.filed f WHERE f.position > after AND f.position <= upto
          ORDER BY f.tree_id, f.position, f.number) first USING (tree_id)
    WHERE NOT (first.code = 'added' AND last.code = 'removed');
END $$;

-- The cleanup.
CREATE FUNCTION record.forget(upto bytea) RETURNS void LANGUAGE sql AS $$
    DELETE FROM record.filed WHERE position <= upto;
    DELETE FROM record.moments WHERE position <= upto;
    UPDATE record.state SET kept_after = greatest(kept_after, upto);
$$;
