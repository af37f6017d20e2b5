-- What the demo's ticketing database has not got: carried out on the server after the roll-out, then read back.
ALTER TABLE fares.zone ADD PRIMARY KEY (id);
ALTER TABLE voyages.pier ADD PRIMARY KEY (id);

-- tables of others than the one owner, and a schema of a group's own
CREATE SCHEMA desk AUTHORIZATION "fare-clerk";
GRANT USAGE ON SCHEMA desk TO counter WITH GRANT OPTION;
GRANT USAGE, CREATE ON SCHEMA voyages TO "voyage-planner" WITH GRANT OPTION;
CREATE TABLE desk.board (id integer PRIMARY KEY, text text, seen boolean);
ALTER TABLE desk.board OWNER TO "fare-clerk";
GRANT SELECT, INSERT (text), UPDATE (text) ON desk.board TO counter WITH GRANT OPTION;
CREATE TABLE voyages.tide (id integer, pier integer, height numeric(4, 2));
ALTER TABLE voyages.tide OWNER TO "voyage-planner";

-- sequences of three sorts
CREATE TABLE fares.parcel (id serial PRIMARY KEY, zone integer REFERENCES fares.zone, weight numeric DEFAULT 1 CHECK (weight > 0));
CREATE TABLE fares.label (id integer GENERATED ALWAYS AS IDENTITY, parcel integer, twice integer GENERATED ALWAYS AS (parcel * 2) STORED);
ALTER TABLE fares.parcel OWNER TO "ticketing-owner";
ALTER TABLE fares.label OWNER TO "ticketing-owner";
GRANT INSERT ON fares.parcel, fares.label TO "fare-clerk", counter;
GRANT USAGE ON SEQUENCE fares.parcel_id_seq TO "fare-clerk";
GRANT SELECT ON fares.parcel, fares.label TO counter;
CREATE SEQUENCE voyages.log_number;
ALTER SEQUENCE voyages.log_number OWNER TO "voyage-planner";
GRANT SELECT ON SEQUENCE voyages.log_number TO counter;
GRANT UPDATE ON SEQUENCE voyages.log_number TO "fare-reader";

-- types
CREATE TYPE fares.mood AS ENUM ('calm', 'rough');
CREATE TYPE fares.span AS (low integer, high integer);
CREATE DOMAIN fares.positive AS integer CHECK (VALUE > 0);
CREATE TYPE desk.stripe AS RANGE (SUBTYPE = integer);
ALTER TYPE fares.mood OWNER TO "ticketing-owner";
ALTER TYPE fares.span OWNER TO "ticketing-owner";
ALTER DOMAIN fares.positive OWNER TO "ticketing-owner";
ALTER TYPE desk.stripe OWNER TO "fare-clerk";
REVOKE USAGE ON TYPE fares.mood FROM PUBLIC;
GRANT USAGE ON TYPE fares.mood TO "fare-clerk";
REVOKE USAGE ON DOMAIN fares.positive FROM PUBLIC;

-- routines: overloads, languages, security, settings, aggregates, procedures
CREATE FUNCTION fares.with_tax(amount numeric) RETURNS numeric LANGUAGE sql AS 'select amount * 1.25';
CREATE FUNCTION fares.with_tax(amount integer) RETURNS integer LANGUAGE sql AS 'select amount * 2';
CREATE FUNCTION fares.dearest() RETURNS numeric LANGUAGE sql AS 'select max(amount) from fares.price';
CREATE FUNCTION fares.dearest_of_owner() RETURNS numeric LANGUAGE sql SECURITY DEFINER AS 'select max(amount) from fares.price';
CREATE FUNCTION fares.by_hand() RETURNS integer LANGUAGE plpgsql AS 'begin return 1; end';
CREATE FUNCTION fares.secret() RETURNS integer LANGUAGE sql AS 'select 1';
CREATE FUNCTION fares.with_rest(numeric, more integer DEFAULT 1) RETURNS numeric LANGUAGE sql AS 'select $1 + $2';
CREATE FUNCTION fares.sum_of(VARIADIC list integer[]) RETURNS integer LANGUAGE sql AS 'select 1';
CREATE FUNCTION fares.atomic() RETURNS bigint LANGUAGE sql BEGIN ATOMIC SELECT count(*) FROM fares.zone; END;
CREATE FUNCTION fares.elsewhere() RETURNS bigint LANGUAGE sql SET search_path = sales AS 'select count(*) from ticket';
CREATE PROCEDURE fares.tidy() LANGUAGE sql AS 'delete from fares.draft';
CREATE PROCEDURE fares.tidy_as_owner() LANGUAGE sql SECURITY DEFINER AS 'delete from fares.draft';
CREATE AGGREGATE fares.total(integer) (SFUNC = int4pl, STYPE = integer, INITCOND = '0');
DO $$ DECLARE f regprocedure; BEGIN
  FOR f IN SELECT oid FROM pg_proc WHERE pronamespace = 'fares'::regnamespace LOOP
    EXECUTE format('ALTER ROUTINE %s OWNER TO "ticketing-owner"', f);
  END LOOP; END $$;
REVOKE EXECUTE ON FUNCTION fares.secret() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION fares.secret() TO "fare-clerk";
REVOKE EXECUTE ON FUNCTION fares.with_tax(integer) FROM PUBLIC;
REVOKE EXECUTE ON FUNCTION fares.total(integer) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION fares.total(integer) TO counter;

-- what uses routines without naming them
CREATE TABLE desk.note (id integer DEFAULT fares.secret(), amount integer, CHECK (amount < 10));
CREATE TABLE desk.ticked (id integer, amount integer CHECK (fares.secret() = amount));
CREATE TABLE desk.made (id integer, double integer GENERATED ALWAYS AS (id + 1) STORED);
CREATE TABLE desk.graded (id fares.positive, mood fares.mood);
ALTER TABLE desk.note OWNER TO "fare-clerk";
ALTER TABLE desk.ticked OWNER TO "fare-clerk";
ALTER TABLE desk.made OWNER TO "fare-clerk";
ALTER TABLE desk.graded OWNER TO "fare-clerk";
GRANT ALL ON desk.note, desk.ticked, desk.made, desk.graded TO counter;

-- row security
CREATE TABLE desk.locker (id integer, holder text DEFAULT current_user);
ALTER TABLE desk.locker OWNER TO "fare-clerk";
ALTER TABLE desk.locker ENABLE ROW LEVEL SECURITY;
CREATE POLICY mine ON desk.locker USING (holder = current_user);
CREATE TABLE desk.nobody (id integer);
ALTER TABLE desk.nobody OWNER TO "fare-clerk";
ALTER TABLE desk.nobody ENABLE ROW LEVEL SECURITY;
CREATE TABLE desk.everybody (id integer);
ALTER TABLE desk.everybody OWNER TO "fare-clerk";
ALTER TABLE desk.everybody ENABLE ROW LEVEL SECURITY;
CREATE POLICY everybody_reads ON desk.everybody FOR SELECT USING (true);
CREATE POLICY everybody_adds ON desk.everybody FOR INSERT WITH CHECK (true);
CREATE TABLE desk.forced (id integer);
ALTER TABLE desk.forced OWNER TO "fare-clerk";
ALTER TABLE desk.forced ENABLE ROW LEVEL SECURITY;
ALTER TABLE desk.forced FORCE ROW LEVEL SECURITY;
CREATE TABLE desk.looked_up (id integer);
ALTER TABLE desk.looked_up OWNER TO "fare-clerk";
ALTER TABLE desk.looked_up ENABLE ROW LEVEL SECURITY;
CREATE POLICY by_price ON desk.looked_up USING (id IN (SELECT id FROM fares.price));
CREATE POLICY by_secret ON desk.looked_up FOR UPDATE USING (fares.secret() = 1);
GRANT ALL ON desk.locker, desk.nobody, desk.everybody, desk.forced, desk.looked_up TO counter;

-- triggers and rules
CREATE TABLE desk.log (what text);
ALTER TABLE desk.log OWNER TO "fare-clerk";
CREATE FUNCTION desk.noted() RETURNS trigger LANGUAGE plpgsql AS 'begin insert into desk.log values (''x''); return new; end';
ALTER FUNCTION desk.noted() OWNER TO "fare-clerk";
CREATE TABLE desk.watched (id integer);
ALTER TABLE desk.watched OWNER TO "fare-clerk";
CREATE TRIGGER noted AFTER INSERT ON desk.watched FOR EACH ROW EXECUTE FUNCTION desk.noted();
CREATE TABLE desk.ruled (id integer);
ALTER TABLE desk.ruled OWNER TO "fare-clerk";
CREATE RULE noted AS ON DELETE TO desk.ruled DO ALSO INSERT INTO desk.log VALUES ('gone');
GRANT ALL ON desk.watched, desk.ruled TO counter;

-- views over views, each with rights of its own
CREATE VIEW fares.open_prices AS SELECT id, amount FROM fares.price;
CREATE VIEW fares.callers_prices WITH (security_invoker = true) AS SELECT id, amount FROM fares.price;
CREATE VIEW desk.prices AS SELECT * FROM fares.callers_prices;
CREATE VIEW desk.lockers AS SELECT * FROM desk.locker;
CREATE VIEW desk.secretly AS SELECT fares.secret() AS n;
CREATE MATERIALIZED VIEW desk.dear AS SELECT id FROM fares.price;
ALTER VIEW fares.open_prices OWNER TO "ticketing-owner";
ALTER VIEW fares.callers_prices OWNER TO "ticketing-owner";
ALTER VIEW desk.prices OWNER TO "fare-clerk";
ALTER VIEW desk.lockers OWNER TO "fare-clerk";
ALTER VIEW desk.secretly OWNER TO "fare-clerk";
ALTER MATERIALIZED VIEW desk.dear OWNER TO "fare-clerk";
GRANT SELECT ON fares.open_prices, fares.callers_prices, desk.prices, desk.lockers, desk.secretly, desk.dear TO counter;
GRANT UPDATE ON desk.prices TO "fare-clerk";

-- default privileges, and who may make others members
ALTER DEFAULT PRIVILEGES FOR ROLE "fare-clerk" IN SCHEMA desk GRANT SELECT ON TABLES TO purser;
GRANT "voyage-reader" TO counter WITH ADMIN OPTION;
GRANT pg_read_all_data TO "auditor-1";
GRANT CREATE ON DATABASE ticketing TO "voyage-planner";
GRANT TEMPORARY ON DATABASE ticketing TO counter;
CREATE ROLE "fare-lead" LOGIN CREATEROLE CREATEDB IN ROLE "fare-clerk";

-- what runs along: rules that add and that stand in, policies that narrow, bodies that were parsed, domains of domains, settings
CREATE SCHEMA along AUTHORIZATION "fare-clerk";
GRANT USAGE ON SCHEMA along TO PUBLIC;
CREATE TABLE along.heap (id integer, note text);
CREATE TABLE along.told (id integer);
CREATE TABLE along.said (id integer, note text DEFAULT 'x');
CREATE RULE tell AS ON INSERT TO along.said DO ALSO INSERT INTO along.told VALUES (new.id);
CREATE RULE count AS ON UPDATE TO along.said WHERE (new.id > old.id) DO ALSO (INSERT INTO along.told VALUES (old.id); DELETE FROM along.heap WHERE id = old.id;);
CREATE TABLE along.kept (id integer);
CREATE RULE kept AS ON DELETE TO along.kept DO INSTEAD NOTHING;
CREATE RULE checked AS ON INSERT TO along.kept WHERE (fares.secret() > 5) DO INSTEAD NOTHING;
CREATE VIEW along.window AS SELECT id, note FROM along.heap;
CREATE RULE pass AS ON INSERT TO along.window DO INSTEAD INSERT INTO along.heap VALUES (new.id, new.note);
CREATE RULE change AS ON UPDATE TO along.window DO INSTEAD UPDATE along.heap SET note = new.note WHERE id = old.id;
CREATE VIEW along.pane AS SELECT id, note FROM along.heap;
CREATE TABLE along.off (id integer);
CREATE RULE never AS ON INSERT TO along.off DO ALSO INSERT INTO along.told SELECT fares.secret();
ALTER TABLE along.off DISABLE RULE never;
CREATE TRIGGER never BEFORE INSERT ON along.off FOR EACH ROW EXECUTE FUNCTION desk.noted();
ALTER TABLE along.off DISABLE TRIGGER never;
CREATE TABLE along.same (id integer, note text);
CREATE TRIGGER same BEFORE UPDATE OF id ON along.same FOR EACH ROW EXECUTE FUNCTION suppress_redundant_updates_trigger();
CREATE TRIGGER noted AFTER UPDATE OF note ON along.same FOR EACH ROW EXECUTE FUNCTION desk.noted();

CREATE TABLE along.narrow (id integer, holder text);
ALTER TABLE along.narrow ENABLE ROW LEVEL SECURITY;
CREATE POLICY all_of_it ON along.narrow USING (true);
CREATE POLICY narrows ON along.narrow AS RESTRICTIVE FOR UPDATE TO counter USING (fares.secret() = 1);
CREATE POLICY never ON along.narrow AS RESTRICTIVE FOR INSERT TO "fare-reader" WITH CHECK (false);
CREATE TABLE along.asks (id integer);
ALTER TABLE along.asks ENABLE ROW LEVEL SECURITY;
CREATE POLICY reads ON along.asks FOR SELECT USING (EXISTS (SELECT 1 FROM along.told t WHERE t.id = asks.id));
CREATE POLICY adds ON along.asks FOR INSERT WITH CHECK (true);
CREATE POLICY removes ON along.asks FOR DELETE TO "fare-reader", counter USING (id IN (SELECT n.id FROM along.narrow n));
CREATE TABLE along.watched_by (id integer);
ALTER TABLE along.watched_by ENABLE ROW LEVEL SECURITY;
CREATE POLICY changes ON along.watched_by FOR UPDATE USING (true) WITH CHECK (false);
CREATE VIEW along.narrowed WITH (security_invoker = true) AS SELECT id FROM along.narrow;
CREATE VIEW along.asked AS SELECT id FROM along.asks;

-- not one that is written into the check as a value, once for the whole session of whoever may run it
CREATE FUNCTION along.sealed() RETURNS integer LANGUAGE sql SECURITY DEFINER AS 'select 1';
REVOKE EXECUTE ON FUNCTION along.sealed() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION along.sealed() TO counter;
CREATE DOMAIN along.small AS integer CHECK (VALUE < 10 AND along.sealed() = 1);
CREATE DOMAIN along.tiny AS along.small DEFAULT 3 CHECK (VALUE < 5);
CREATE TYPE along.pair AS (a along.tiny, b integer);
CREATE TABLE along.sized (id integer, size along.small, pair along.pair);
CREATE TABLE along.plain (id integer, price numeric CHECK (fares.with_tax(price) > 0), CONSTRAINT positive CHECK (id > 0));

CREATE FUNCTION along.parsed() RETURNS bigint LANGUAGE sql BEGIN ATOMIC SELECT count(*) FROM along.told; SELECT count(*) FROM along.heap; END;
CREATE FUNCTION along.returned(n integer) RETURNS integer LANGUAGE sql RETURN n + fares.secret();
CREATE FUNCTION along.placed() RETURNS bigint LANGUAGE sql SECURITY DEFINER SET search_path = along, pg_temp AS 'select count(*) from told';
CREATE FUNCTION along.nowhere() RETURNS bigint LANGUAGE sql SET search_path = '' AS 'select count(*) from along.told';
CREATE FUNCTION along.slow() RETURNS integer LANGUAGE sql SET statement_timeout = '1s' SET work_mem = '1MB' AS 'select 1';
CREATE FUNCTION along.unbound() RETURNS bigint LANGUAGE sql SET row_security = off AS 'select count(*) from along.narrow';
CREATE FUNCTION along.takes(n along.small) RETURNS integer LANGUAGE sql AS 'select 1';
CREATE FUNCTION along.gives() RETURNS along.small LANGUAGE sql AS 'select 1';
CREATE VIEW along.turned AS SELECT id, id::along.small AS size FROM along.plain;
CREATE VIEW along.instead AS SELECT id, note FROM along.heap;
CREATE TRIGGER instead INSTEAD OF INSERT ON along.instead FOR EACH ROW EXECUTE FUNCTION desk.noted();
CREATE VIEW along.checked AS SELECT id, holder FROM along.narrow WHERE id > 0 WITH CHECK OPTION;
CREATE VIEW along.fenced WITH (security_barrier = true) AS SELECT id FROM along.asks WHERE id > 0;
CREATE TABLE along.when_so (id integer);
CREATE TRIGGER when_so BEFORE UPDATE ON along.when_so FOR EACH ROW WHEN (along.sealed() = 1) EXECUTE FUNCTION suppress_redundant_updates_trigger();
CREATE TABLE along.filled (id integer, size along.tiny DEFAULT 1, sealed integer DEFAULT along.sealed());
CREATE TABLE along.loops (id integer);
ALTER TABLE along.loops ENABLE ROW LEVEL SECURITY;
CREATE POLICY loops ON along.loops USING (id IN (SELECT l.id FROM along.loops l));
CREATE TABLE along.own (id integer, holder text);
ALTER TABLE along.own ENABLE ROW LEVEL SECURITY;
ALTER TABLE along.own FORCE ROW LEVEL SECURITY;
CREATE POLICY own ON along.own FOR INSERT WITH CHECK (false);
CREATE POLICY reads ON along.own FOR SELECT TO counter USING (holder = current_user AND along.sealed() = 1);
CREATE FUNCTION along.adds() RETURNS void LANGUAGE sql BEGIN ATOMIC INSERT INTO along.said VALUES (1); INSERT INTO along.own VALUES (1); END;
CREATE FUNCTION along.adds_for() RETURNS void LANGUAGE sql SECURITY DEFINER BEGIN ATOMIC INSERT INTO along.own VALUES (1); END;
CREATE FUNCTION along.lets_in() RETURNS trigger LANGUAGE plpgsql AS 'begin insert into along.said values (1); if tg_op = ''DELETE'' then return old; end if; return new; end';
CREATE VIEW along.hatch AS SELECT h.id, h.note, (SELECT max(t.height) FROM voyages.tide t WHERE t.id = h.id) AS height FROM along.heap h;
CREATE VIEW along.hatches AS SELECT id, note, height FROM along.hatch;
CREATE VIEW along.once AS SELECT DISTINCT h.id, (SELECT max(t.height) FROM voyages.tide t WHERE t.id = h.id) AS height FROM along.heap h;
CREATE VIEW along.gate AS SELECT t.id, t.height FROM voyages.tide t;
CREATE VIEW along.gates AS SELECT id, height FROM along.gate;
CREATE VIEW along.slide AS SELECT h.id, h.note, (SELECT max(t.height) FROM voyages.tide t WHERE t.id = h.id) AS height FROM along.heap h;
CREATE VIEW along.halfway AS SELECT h.id, h.note FROM along.heap h JOIN along.said s ON h.id = s.id;
CREATE TRIGGER lets_in INSTEAD OF INSERT OR UPDATE OR DELETE ON along.gate FOR EACH ROW EXECUTE FUNCTION along.lets_in();
CREATE TRIGGER lets_in INSTEAD OF UPDATE OR DELETE ON along.slide FOR EACH ROW EXECUTE FUNCTION along.lets_in();
CREATE TRIGGER lets_in INSTEAD OF INSERT ON along.halfway FOR EACH ROW EXECUTE FUNCTION along.lets_in();
DO $$ DECLARE r record; BEGIN
  FOR r IN SELECT format('ALTER TABLE %s OWNER TO "fare-clerk"', oid::regclass) AS sql FROM pg_class WHERE relnamespace = 'along'::regnamespace AND relkind IN ('r', 'v')
           UNION SELECT format('ALTER ROUTINE %s OWNER TO "fare-clerk"', oid::regprocedure) FROM pg_proc WHERE pronamespace = 'along'::regnamespace LOOP
    EXECUTE r.sql;
  END LOOP; END $$;
GRANT ALL ON ALL TABLES IN SCHEMA along TO counter;
GRANT SELECT, INSERT, UPDATE, DELETE ON along.said, along.kept, along.window, along.pane, along.off, along.same, along.narrow, along.asks, along.watched_by, along.narrowed, along.asked, along.sized, along.plain, along.turned, along.instead, along.checked, along.fenced, along.when_so, along.filled, along.loops, along.own, along.hatch, along.hatches, along.once, along.gate, along.gates, along.slide, along.halfway TO "fare-reader";
REVOKE ALL ON along.told, along.heap FROM counter;
ALTER ROLE "tariff-1" SET search_path = along, fares;
ALTER ROLE "report-runner" SET search_path TO reports, "$user";
ALTER ROLE "auditor-1" SET statement_timeout = '20s';
ALTER DATABASE ticketing SET search_path TO "$user", public, sales;

-- views that check new rows, that read their own table again, and over each other in other names
CREATE SCHEMA panes AUTHORIZATION "fare-clerk";
GRANT USAGE, CREATE ON SCHEMA panes TO PUBLIC;
CREATE TABLE panes.slip (id integer, note text);
CREATE TABLE panes.half (id integer, note text);
ALTER TABLE panes.half OWNER TO "ticketing-owner";
GRANT SELECT (id), INSERT, UPDATE, DELETE ON panes.half TO "fare-clerk";
ALTER TABLE panes.slip OWNER TO "ticketing-owner";
GRANT INSERT, UPDATE, DELETE ON panes.slip TO "fare-clerk";
CREATE FUNCTION panes.fits(integer) RETURNS boolean LANGUAGE sql AS 'select $1 > 0';
REVOKE EXECUTE ON FUNCTION panes.fits(integer) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION panes.fits(integer) TO "fare-clerk", "fare-reader";
CREATE VIEW panes.fitting AS SELECT id, note FROM panes.slip WHERE panes.fits(id) WITH CHECK OPTION;
CREATE VIEW panes.loose AS SELECT id, note FROM panes.slip WHERE panes.fits(id);
CREATE VIEW panes.known AS SELECT id FROM panes.slip WHERE id IN (SELECT id FROM fares.price) WITH LOCAL CHECK OPTION;
CREATE VIEW panes.again AS SELECT id FROM panes.slip WHERE id IN (SELECT s.id FROM panes.slip s);
CREATE VIEW panes.narrow AS SELECT id, note FROM panes.half WHERE note > '';
CREATE VIEW panes.over AS SELECT id FROM panes.loose WITH CASCADED CHECK OPTION;
CREATE VIEW panes.aside AS SELECT id FROM panes.loose WITH LOCAL CHECK OPTION;
CREATE VIEW panes.asked WITH (security_invoker = yes) AS SELECT id FROM panes.slip WHERE id > 0 WITH CHECK OPTION;
CREATE VIEW panes.twice AS SELECT id FROM panes.narrow WHERE EXISTS (SELECT FROM panes.narrow) WITH CHECK OPTION;
CREATE VIEW panes.behind WITH (security_barrier) AS SELECT id FROM panes.over;
DO $$ DECLARE r record; BEGIN
  FOR r IN SELECT oid::regclass AS name FROM pg_class WHERE relnamespace = 'panes'::regnamespace AND relkind = 'v' LOOP
    EXECUTE format('ALTER VIEW %s OWNER TO "fare-clerk"', r.name);
    EXECUTE format('GRANT SELECT, INSERT, UPDATE, DELETE ON %s TO counter, "fare-reader"', r.name);
  END LOOP; END $$;
ALTER VIEW panes.behind OWNER TO counter;
GRANT ALL ON panes.asked TO PUBLIC;
CREATE MATERIALIZED VIEW panes.held AS SELECT id FROM fares.price;
CREATE MATERIALIZED VIEW panes.kept AS SELECT id FROM panes.half WITH NO DATA;
CREATE MATERIALIZED VIEW panes.filed AS SELECT panes.fits(id) AS fits FROM fares.zone;
CREATE UNIQUE INDEX ON panes.held (id);
ALTER MATERIALIZED VIEW panes.held OWNER TO "ticketing-owner";
ALTER MATERIALIZED VIEW panes.kept OWNER TO "fare-clerk";
ALTER MATERIALIZED VIEW panes.filed OWNER TO counter;
GRANT ALL ON panes.slip TO "ticketing-owner";
GRANT SELECT, INSERT ON panes.slip TO counter;

-- what does not fire, what others serve, and large objects
CREATE FUNCTION desk.seen() RETURNS event_trigger LANGUAGE plpgsql AS 'begin end';
DO $$ DECLARE name text; BEGIN
  FOREACH name IN ARRAY ARRAY['asleep', 'dozing', 'idle', 'off', 'quiet'] LOOP
    EXECUTE format('CREATE EVENT TRIGGER %s ON ddl_command_end EXECUTE FUNCTION desk.seen()', name);
    EXECUTE format('ALTER EVENT TRIGGER %s DISABLE', name);
  END LOOP; END $$;
CREATE FOREIGN DATA WRAPPER ferry;
CREATE SERVER pier FOREIGN DATA WRAPPER ferry;
GRANT USAGE ON FOREIGN DATA WRAPPER ferry TO "fare-clerk" WITH GRANT OPTION;
GRANT USAGE ON FOREIGN SERVER pier TO counter;
