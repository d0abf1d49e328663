-- +goose Up
-- What lists are sorted, filtered and searched by stands in the table of the list itself, so that a page
-- is read along one index however large the fleet is. Triggers keep it in step.
ALTER TABLE devices ADD COLUMN person_name TEXT NOT NULL DEFAULT '' COLLATE NOCASE;
UPDATE devices SET person_name = COALESCE((SELECT name FROM people p WHERE p.id = person_id), '');
CREATE INDEX devices_by_person ON devices (person_name, name, id);
CREATE INDEX devices_by_platform ON devices (platform, name, id);
DROP INDEX devices_platform;
CREATE INDEX devices_changed ON devices (changed, id);
CREATE INDEX devices_by_name ON devices (name, id);

ALTER TABLE accounts ADD COLUMN person_name TEXT NOT NULL DEFAULT '' COLLATE NOCASE;
UPDATE accounts SET person_name = COALESCE((SELECT name FROM people p WHERE p.id = person_id), '');
CREATE INDEX accounts_by_person ON accounts (person_name, login, id);
CREATE INDEX accounts_changed ON accounts (changed, id);

CREATE INDEX people_mail ON people (mail, id);
CREATE INDEX people_changed ON people (changed, id);

ALTER TABLE gateways ADD COLUMN profiles INTEGER NOT NULL DEFAULT 0;
UPDATE gateways SET profiles = (SELECT COUNT(*) FROM profiles f WHERE f.gateway_id = gateways.id);

ALTER TABLE profiles ADD COLUMN device_name TEXT NOT NULL DEFAULT '' COLLATE NOCASE;
ALTER TABLE profiles ADD COLUMN gateway_name TEXT NOT NULL DEFAULT '' COLLATE NOCASE;
ALTER TABLE profiles ADD COLUMN person_id TEXT NOT NULL DEFAULT '';
ALTER TABLE profiles ADD COLUMN person_name TEXT NOT NULL DEFAULT '' COLLATE NOCASE;
ALTER TABLE profiles ADD COLUMN platform TEXT NOT NULL DEFAULT '';
UPDATE profiles SET
    (device_name, person_id, person_name, platform) = (SELECT d.name, d.person_id, d.person_name, d.platform FROM devices d WHERE d.id = device_id),
    gateway_name = (SELECT g.name FROM gateways g WHERE g.id = gateway_id);
CREATE INDEX profiles_by_device ON profiles (device_name, gateway_name, id);
CREATE INDEX profiles_by_gateway ON profiles (gateway_name, device_name, id);
CREATE INDEX profiles_by_person ON profiles (person_name, device_name, id);
CREATE INDEX profiles_person ON profiles (person_id);
CREATE INDEX profiles_platform ON profiles (platform, device_name);
CREATE INDEX profiles_changed ON profiles (changed, id);
DROP INDEX profiles_gateway;
CREATE INDEX profiles_gateway ON profiles (gateway_id, device_name);
DROP INDEX profiles_worst;
CREATE INDEX profiles_worst ON profiles (blockers, warnings, id);

-- Findings know whom they concern.
CREATE TABLE findings_ (
    n            INTEGER PRIMARY KEY,
    profile_id   TEXT REFERENCES profiles ON DELETE CASCADE,
    gateway_id   TEXT REFERENCES gateways ON DELETE CASCADE, -- of the record alone
    rule         TEXT NOT NULL,
    severity     TEXT NOT NULL,
    field        TEXT NOT NULL,
    found        TEXT NOT NULL,
    mend         TEXT NOT NULL,
    noun         TEXT NOT NULL,
    object       TEXT NOT NULL,
    pointer      TEXT NOT NULL,
    mendable     INTEGER NOT NULL,
    passed       INTEGER NOT NULL,
    since        INTEGER NOT NULL,
    rank         INTEGER NOT NULL AS (CASE severity WHEN 'blocker' THEN 0 WHEN 'warning' THEN 1 ELSE 2 END) STORED,
    at_gateway   TEXT NOT NULL DEFAULT '',
    gateway_name TEXT NOT NULL DEFAULT '' COLLATE NOCASE,
    device_id    TEXT NOT NULL DEFAULT '',
    device_name  TEXT NOT NULL DEFAULT '' COLLATE NOCASE,
    person_id    TEXT NOT NULL DEFAULT '',
    person_name  TEXT NOT NULL DEFAULT '' COLLATE NOCASE,
    CHECK ((profile_id IS NULL) <> (gateway_id IS NULL))
);
INSERT INTO findings_ (profile_id, gateway_id, rule, severity, field, found, mend, noun, object, pointer, mendable, passed, since, at_gateway, gateway_name, device_id, device_name, person_id, person_name)
    SELECT i.profile_id, i.gateway_id, i.rule, i.severity, i.field, i.found, i.mend, i.noun, i.object, i.pointer, i.mendable, i.passed, i.since,
        g.id, g.name, COALESCE(f.device_id, ''), COALESCE(f.device_name, ''), COALESCE(f.person_id, ''), COALESCE(f.person_name, '')
    FROM findings i LEFT JOIN profiles f ON f.id = i.profile_id JOIN gateways g ON g.id = COALESCE(i.gateway_id, f.gateway_id);
DROP TABLE findings;
ALTER TABLE findings_ RENAME TO findings;
CREATE INDEX findings_profile ON findings (profile_id, rule);
CREATE INDEX findings_gateway ON findings (gateway_id) WHERE gateway_id IS NOT NULL;
CREATE INDEX findings_rank ON findings (rank, rule, n);
CREATE INDEX findings_rule ON findings (rule, severity);
CREATE INDEX findings_severity ON findings (severity, rule, profile_id);
CREATE INDEX findings_since ON findings (since);
CREATE INDEX findings_found ON findings (found);
CREATE INDEX findings_at_gateway ON findings (at_gateway);
CREATE INDEX findings_device ON findings (device_id);
CREATE INDEX findings_person ON findings (person_id);
CREATE INDEX findings_by_gateway ON findings (gateway_name, n);
CREATE INDEX findings_by_device ON findings (device_name, n);
CREATE INDEX findings_by_person ON findings (person_name, n);

-- A record that cannot be read must not keep its table from being changed.
DROP INDEX devices_site;
CREATE INDEX devices_site ON devices (id) WHERE json_extract(iif(json_valid(body), body, '{}'), '$.site') IS NOT NULL;
DROP INDEX profiles_fallback;
CREATE INDEX profiles_fallback ON profiles (json_extract(iif(json_valid(body), body, '{}'), '$.wishes.fallback_id')) WHERE json_extract(iif(json_valid(body), body, '{}'), '$.wishes.fallback_id') IS NOT NULL;
DROP INDEX profiles_second;
CREATE INDEX profiles_second ON profiles (json_extract(iif(json_valid(body), body, '{}'), '$.wishes.second_to')) WHERE json_extract(iif(json_valid(body), body, '{}'), '$.wishes.second_to') IS NOT NULL;

-- Files of parcels that newer ones took the place of go after some days; that they were built stays.
ALTER TABLE organisation ADD COLUMN keep_parcels INTEGER NOT NULL DEFAULT 90;
ALTER TABLE parcels ADD COLUMN removed INTEGER; -- when its files were
CREATE INDEX parcels_built ON parcels (built) WHERE removed IS NULL;

-- A revocation list is read from its index alone.
DROP INDEX certificates_revoked;
CREATE INDEX certificates_revoked ON certificates (authority_id, revoked, serial, ends, reason) WHERE revoked IS NOT NULL;

-- The groups that people are in.
CREATE TABLE person_groups (
    name      TEXT NOT NULL,
    person_id TEXT NOT NULL REFERENCES people ON DELETE CASCADE,
    PRIMARY KEY (name, person_id)
) WITHOUT ROWID;
CREATE INDEX person_groups_person ON person_groups (person_id);
INSERT OR IGNORE INTO person_groups SELECT value, p.id FROM people p, json_each(iif(json_valid(p.body), p.body, '{}'), '$.groups');

-- Texts that lists are searched by: any three letters in a row lead to them.
CREATE TABLE texts (
    n      INTEGER PRIMARY KEY,
    noun   TEXT NOT NULL,
    record TEXT NOT NULL,
    text   TEXT NOT NULL,
    UNIQUE (noun, record)
);
CREATE VIRTUAL TABLE person_texts USING fts5(text, content='texts', content_rowid='n', tokenize='trigram');
-- +goose StatementBegin
CREATE TRIGGER person_texts_in AFTER INSERT ON texts WHEN NEW.noun = 'person' BEGIN
    INSERT INTO person_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER person_texts_out AFTER DELETE ON texts WHEN OLD.noun = 'person' BEGIN
    INSERT INTO person_texts (person_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER person_texts_anew AFTER UPDATE OF text ON texts WHEN OLD.noun = 'person' AND OLD.text <> NEW.text BEGIN
    INSERT INTO person_texts (person_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
    INSERT INTO person_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
-- +goose StatementEnd
CREATE VIRTUAL TABLE device_texts USING fts5(text, content='texts', content_rowid='n', tokenize='trigram');
-- +goose StatementBegin
CREATE TRIGGER device_texts_in AFTER INSERT ON texts WHEN NEW.noun = 'device' BEGIN
    INSERT INTO device_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER device_texts_out AFTER DELETE ON texts WHEN OLD.noun = 'device' BEGIN
    INSERT INTO device_texts (device_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER device_texts_anew AFTER UPDATE OF text ON texts WHEN OLD.noun = 'device' AND OLD.text <> NEW.text BEGIN
    INSERT INTO device_texts (device_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
    INSERT INTO device_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
-- +goose StatementEnd
CREATE VIRTUAL TABLE gateway_texts USING fts5(text, content='texts', content_rowid='n', tokenize='trigram');
-- +goose StatementBegin
CREATE TRIGGER gateway_texts_in AFTER INSERT ON texts WHEN NEW.noun = 'gateway' BEGIN
    INSERT INTO gateway_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER gateway_texts_out AFTER DELETE ON texts WHEN OLD.noun = 'gateway' BEGIN
    INSERT INTO gateway_texts (gateway_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER gateway_texts_anew AFTER UPDATE OF text ON texts WHEN OLD.noun = 'gateway' AND OLD.text <> NEW.text BEGIN
    INSERT INTO gateway_texts (gateway_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
    INSERT INTO gateway_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
-- +goose StatementEnd
CREATE VIRTUAL TABLE account_texts USING fts5(text, content='texts', content_rowid='n', tokenize='trigram');
-- +goose StatementBegin
CREATE TRIGGER account_texts_in AFTER INSERT ON texts WHEN NEW.noun = 'account' BEGIN
    INSERT INTO account_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER account_texts_out AFTER DELETE ON texts WHEN OLD.noun = 'account' BEGIN
    INSERT INTO account_texts (account_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER account_texts_anew AFTER UPDATE OF text ON texts WHEN OLD.noun = 'account' AND OLD.text <> NEW.text BEGIN
    INSERT INTO account_texts (account_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
    INSERT INTO account_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
-- +goose StatementEnd
CREATE VIRTUAL TABLE certificate_texts USING fts5(text, content='texts', content_rowid='n', tokenize='trigram');
-- +goose StatementBegin
CREATE TRIGGER certificate_texts_in AFTER INSERT ON texts WHEN NEW.noun = 'certificate' BEGIN
    INSERT INTO certificate_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER certificate_texts_out AFTER DELETE ON texts WHEN OLD.noun = 'certificate' BEGIN
    INSERT INTO certificate_texts (certificate_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER certificate_texts_anew AFTER UPDATE OF text ON texts WHEN OLD.noun = 'certificate' AND OLD.text <> NEW.text BEGIN
    INSERT INTO certificate_texts (certificate_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
    INSERT INTO certificate_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
-- +goose StatementEnd
CREATE VIRTUAL TABLE found_texts USING fts5(text, content='texts', content_rowid='n', tokenize='trigram');
-- +goose StatementBegin
CREATE TRIGGER found_texts_in AFTER INSERT ON texts WHEN NEW.noun = 'found' BEGIN
    INSERT INTO found_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER found_texts_out AFTER DELETE ON texts WHEN OLD.noun = 'found' BEGIN
    INSERT INTO found_texts (found_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER found_texts_anew AFTER UPDATE OF text ON texts WHEN OLD.noun = 'found' AND OLD.text <> NEW.text BEGIN
    INSERT INTO found_texts (found_texts, rowid, text) VALUES ('delete', OLD.n, OLD.text);
    INSERT INTO found_texts (rowid, text) VALUES (NEW.n, NEW.text);
END;
-- +goose StatementEnd
INSERT INTO texts (noun, record, text) SELECT 'person', id, name || char(10) || mail FROM people;
INSERT INTO texts (noun, record, text) SELECT 'device', id, name FROM devices;
INSERT INTO texts (noun, record, text) SELECT 'gateway', id, name || char(10) || address || char(10) || city FROM gateways;
INSERT INTO texts (noun, record, text) SELECT 'account', id, login || char(10) || realm FROM accounts;
INSERT INTO texts (noun, record, text) SELECT 'certificate', id, subject || char(10) || names || char(10) || serial FROM certificates;
INSERT INTO texts (noun, record, text) SELECT DISTINCT 'found', found, found FROM findings;

-- +goose StatementBegin
CREATE TRIGGER people_in AFTER INSERT ON people BEGIN
    INSERT INTO texts (noun, record, text) VALUES ('person', NEW.id, NEW.name || char(10) || NEW.mail);
    INSERT OR IGNORE INTO person_groups SELECT value, NEW.id FROM json_each(iif(json_valid(NEW.body), NEW.body, '{}'), '$.groups');
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER people_named AFTER UPDATE OF name, mail ON people WHEN OLD.name <> NEW.name OR OLD.mail <> NEW.mail BEGIN
    UPDATE texts SET text = NEW.name || char(10) || NEW.mail WHERE noun = 'person' AND record = NEW.id;
    UPDATE devices SET person_name = NEW.name WHERE person_id = NEW.id AND OLD.name <> NEW.name;
    UPDATE accounts SET person_name = NEW.name WHERE person_id = NEW.id AND OLD.name <> NEW.name;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER people_grouped AFTER UPDATE OF body ON people WHEN NOT json_valid(OLD.body) OR json_extract(iif(json_valid(OLD.body), OLD.body, '{}'), '$.groups') IS NOT json_extract(iif(json_valid(NEW.body), NEW.body, '{}'), '$.groups') BEGIN
    DELETE FROM person_groups WHERE person_id = NEW.id;
    INSERT OR IGNORE INTO person_groups SELECT value, NEW.id FROM json_each(iif(json_valid(NEW.body), NEW.body, '{}'), '$.groups');
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER people_out AFTER DELETE ON people BEGIN
    DELETE FROM texts WHERE noun = 'person' AND record = OLD.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER devices_in AFTER INSERT ON devices BEGIN
    INSERT INTO texts (noun, record, text) VALUES ('device', NEW.id, NEW.name);
    UPDATE devices SET person_name = COALESCE((SELECT name FROM people WHERE id = NEW.person_id), '') WHERE id = NEW.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER devices_moved AFTER UPDATE OF person_id ON devices WHEN OLD.person_id <> NEW.person_id BEGIN
    UPDATE devices SET person_name = COALESCE((SELECT name FROM people WHERE id = NEW.person_id), '') WHERE id = NEW.id;
    UPDATE profiles SET person_id = NEW.person_id WHERE device_id = NEW.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER devices_named AFTER UPDATE OF name, person_name, platform ON devices WHEN OLD.name <> NEW.name OR OLD.person_name <> NEW.person_name OR OLD.platform <> NEW.platform BEGIN
    UPDATE texts SET text = NEW.name WHERE noun = 'device' AND record = NEW.id;
    UPDATE profiles SET device_name = NEW.name, person_name = NEW.person_name, platform = NEW.platform WHERE device_id = NEW.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER devices_out AFTER DELETE ON devices BEGIN
    DELETE FROM texts WHERE noun = 'device' AND record = OLD.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER gateways_in AFTER INSERT ON gateways BEGIN
    INSERT INTO texts (noun, record, text) VALUES ('gateway', NEW.id, NEW.name || char(10) || NEW.address || char(10) || NEW.city);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER gateways_named AFTER UPDATE OF name, address, city ON gateways WHEN OLD.name <> NEW.name OR OLD.address <> NEW.address OR OLD.city <> NEW.city BEGIN
    UPDATE texts SET text = NEW.name || char(10) || NEW.address || char(10) || NEW.city WHERE noun = 'gateway' AND record = NEW.id;
    UPDATE profiles SET gateway_name = NEW.name WHERE gateway_id = NEW.id AND OLD.name <> NEW.name;
    UPDATE findings SET gateway_name = NEW.name WHERE gateway_id = NEW.id AND OLD.name <> NEW.name;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER gateways_out AFTER DELETE ON gateways BEGIN
    DELETE FROM texts WHERE noun = 'gateway' AND record = OLD.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER accounts_in AFTER INSERT ON accounts BEGIN
    INSERT INTO texts (noun, record, text) VALUES ('account', NEW.id, NEW.login || char(10) || NEW.realm);
    UPDATE accounts SET person_name = COALESCE((SELECT name FROM people WHERE id = NEW.person_id), '') WHERE id = NEW.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER accounts_named AFTER UPDATE OF login, realm, person_id ON accounts WHEN OLD.login <> NEW.login OR OLD.realm <> NEW.realm OR OLD.person_id <> NEW.person_id BEGIN
    UPDATE texts SET text = NEW.login || char(10) || NEW.realm WHERE noun = 'account' AND record = NEW.id;
    UPDATE accounts SET person_name = COALESCE((SELECT name FROM people WHERE id = NEW.person_id), '') WHERE id = NEW.id AND OLD.person_id <> NEW.person_id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER accounts_out AFTER DELETE ON accounts BEGIN
    DELETE FROM texts WHERE noun = 'account' AND record = OLD.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER certificates_in AFTER INSERT ON certificates BEGIN
    INSERT INTO texts (noun, record, text) VALUES ('certificate', NEW.id, NEW.subject || char(10) || NEW.names || char(10) || NEW.serial);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER certificates_out AFTER DELETE ON certificates BEGIN
    DELETE FROM texts WHERE noun = 'certificate' AND record = OLD.id;
END;
-- +goose StatementEnd

-- Kept counts: of rows, of how profiles stand, and of rules.
CREATE TABLE sizes (
    name TEXT PRIMARY KEY,
    n    INTEGER NOT NULL
) WITHOUT ROWID;
INSERT INTO sizes VALUES ('people', (SELECT COUNT(*) FROM people)), ('devices', (SELECT COUNT(*) FROM devices)), ('accounts', (SELECT COUNT(*) FROM accounts)),
    ('profiles', (SELECT COUNT(*) FROM profiles)), ('parcels', (SELECT COUNT(*) FROM parcels)), ('findings', (SELECT COUNT(*) FROM findings)),
    ('certificates', (SELECT COUNT(*) FROM certificates)), ('handovers', (SELECT COUNT(*) FROM handovers)), ('letters', (SELECT COUNT(*) FROM letters)),
    ('due', (SELECT COUNT(*) FROM profiles WHERE touched <> seen)), ('blocked', (SELECT COUNT(*) FROM profiles WHERE blockers > 0)),
    ('warned', (SELECT COUNT(*) FROM profiles WHERE blockers = 0 AND warnings > 0)), ('clean', (SELECT COUNT(*) FROM profiles WHERE blockers = 0 AND warnings = 0 AND touched = seen)),
    ('blockers', (SELECT COALESCE(SUM(blockers), 0) FROM profiles)), ('warnings', (SELECT COALESCE(SUM(warnings), 0) FROM profiles)), ('advice', (SELECT COALESCE(SUM(advice), 0) FROM profiles));

CREATE TABLE rule_sums (
    rule     TEXT NOT NULL,
    severity TEXT NOT NULL,
    profiles INTEGER NOT NULL,
    PRIMARY KEY (rule, severity)
) WITHOUT ROWID;
INSERT INTO rule_sums SELECT rule, severity, COUNT(DISTINCT profile_id) FROM findings GROUP BY rule, severity;
-- +goose StatementBegin
CREATE TRIGGER profiles_in AFTER INSERT ON profiles BEGIN
    UPDATE profiles SET (device_name, person_id, person_name, platform) = (SELECT d.name, d.person_id, d.person_name, d.platform FROM devices d WHERE d.id = NEW.device_id),
        gateway_name = (SELECT g.name FROM gateways g WHERE g.id = NEW.gateway_id) WHERE id = NEW.id;
    UPDATE gateways SET profiles = profiles + 1 WHERE id = NEW.gateway_id;
    UPDATE sizes SET n = n + 1 WHERE name = 'profiles' OR name = 'due' AND NEW.touched <> NEW.seen;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER profiles_moved AFTER UPDATE OF device_id, gateway_id ON profiles WHEN OLD.device_id <> NEW.device_id OR OLD.gateway_id <> NEW.gateway_id BEGIN
    UPDATE profiles SET (device_name, person_id, person_name, platform) = (SELECT d.name, d.person_id, d.person_name, d.platform FROM devices d WHERE d.id = NEW.device_id),
        gateway_name = (SELECT g.name FROM gateways g WHERE g.id = NEW.gateway_id) WHERE id = NEW.id;
    UPDATE gateways SET profiles = profiles - 1 WHERE id = OLD.gateway_id;
    UPDATE gateways SET profiles = profiles + 1 WHERE id = NEW.gateway_id;
    UPDATE findings SET at_gateway = NEW.gateway_id, device_id = NEW.device_id WHERE profile_id = NEW.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER profiles_named AFTER UPDATE OF device_name, gateway_name, person_id, person_name ON profiles
WHEN OLD.device_name <> NEW.device_name OR OLD.gateway_name <> NEW.gateway_name OR OLD.person_id <> NEW.person_id OR OLD.person_name <> NEW.person_name BEGIN
    UPDATE findings SET gateway_name = NEW.gateway_name, device_name = NEW.device_name, person_id = NEW.person_id, person_name = NEW.person_name WHERE profile_id = NEW.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER profiles_due AFTER UPDATE OF touched, seen ON profiles WHEN (OLD.touched <> OLD.seen) <> (NEW.touched <> NEW.seen) BEGIN
    UPDATE sizes SET n = n + (NEW.touched <> NEW.seen) - (OLD.touched <> OLD.seen) WHERE name = 'due';
    UPDATE sizes SET n = n + (NEW.touched = NEW.seen) - (OLD.touched = OLD.seen) WHERE name = 'clean' AND OLD.blockers + OLD.warnings = 0 AND NEW.blockers + NEW.warnings = 0;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER profiles_counted AFTER UPDATE OF blockers, warnings, advice ON profiles WHEN OLD.blockers <> NEW.blockers OR OLD.warnings <> NEW.warnings OR OLD.advice <> NEW.advice BEGIN
    UPDATE sizes SET n = n + CASE name
        WHEN 'blockers' THEN NEW.blockers - OLD.blockers WHEN 'warnings' THEN NEW.warnings - OLD.warnings WHEN 'advice' THEN NEW.advice - OLD.advice
        WHEN 'blocked' THEN (NEW.blockers > 0) - (OLD.blockers > 0)
        WHEN 'warned' THEN (NEW.blockers = 0 AND NEW.warnings > 0) - (OLD.blockers = 0 AND OLD.warnings > 0)
        ELSE CASE WHEN OLD.blockers + OLD.warnings = 0 AND NEW.blockers + NEW.warnings = 0 THEN 0
            ELSE (NEW.blockers = 0 AND NEW.warnings = 0 AND NEW.touched = NEW.seen) - (OLD.blockers = 0 AND OLD.warnings = 0 AND OLD.touched = OLD.seen) END
        END WHERE name IN ('blockers', 'warnings', 'advice', 'blocked', 'warned', 'clean');
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER profiles_out AFTER DELETE ON profiles BEGIN
    UPDATE gateways SET profiles = profiles - 1 WHERE id = OLD.gateway_id;
    UPDATE sizes SET n = n - CASE name
        WHEN 'profiles' THEN 1 WHEN 'due' THEN OLD.touched <> OLD.seen
        WHEN 'blockers' THEN OLD.blockers WHEN 'warnings' THEN OLD.warnings WHEN 'advice' THEN OLD.advice
        WHEN 'blocked' THEN OLD.blockers > 0 WHEN 'warned' THEN OLD.blockers = 0 AND OLD.warnings > 0
        ELSE OLD.blockers = 0 AND OLD.warnings = 0 AND OLD.touched = OLD.seen END
        WHERE name IN ('profiles', 'due', 'blockers', 'warnings', 'advice', 'blocked', 'warned', 'clean');
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER findings_in AFTER INSERT ON findings BEGIN
    UPDATE sizes SET n = n + 1 WHERE name = 'findings';
    INSERT INTO rule_sums VALUES (NEW.rule, NEW.severity, NEW.profile_id IS NOT NULL)
        ON CONFLICT DO UPDATE SET profiles = profiles + (NEW.profile_id IS NOT NULL AND NOT EXISTS (SELECT 1 FROM findings WHERE profile_id = NEW.profile_id AND rule = NEW.rule AND severity = NEW.severity AND n <> NEW.n));
    INSERT OR IGNORE INTO texts (noun, record, text) VALUES ('found', NEW.found, NEW.found);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER findings_out AFTER DELETE ON findings BEGIN
    UPDATE sizes SET n = n - 1 WHERE name = 'findings';
    UPDATE rule_sums SET profiles = profiles - (OLD.profile_id IS NOT NULL AND NOT EXISTS (SELECT 1 FROM findings WHERE profile_id = OLD.profile_id AND rule = OLD.rule AND severity = OLD.severity)) WHERE rule = OLD.rule AND severity = OLD.severity;
    DELETE FROM rule_sums WHERE rule = OLD.rule AND severity = OLD.severity AND profiles <= 0 AND NOT EXISTS (SELECT 1 FROM findings WHERE rule = OLD.rule AND severity = OLD.severity);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER people_more AFTER INSERT ON people BEGIN UPDATE sizes SET n = n + 1 WHERE name = 'people'; END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER people_less AFTER DELETE ON people BEGIN UPDATE sizes SET n = n - 1 WHERE name = 'people'; END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER devices_more AFTER INSERT ON devices BEGIN UPDATE sizes SET n = n + 1 WHERE name = 'devices'; END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER devices_less AFTER DELETE ON devices BEGIN UPDATE sizes SET n = n - 1 WHERE name = 'devices'; END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER accounts_more AFTER INSERT ON accounts BEGIN UPDATE sizes SET n = n + 1 WHERE name = 'accounts'; END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER accounts_less AFTER DELETE ON accounts BEGIN UPDATE sizes SET n = n - 1 WHERE name = 'accounts'; END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER parcels_more AFTER INSERT ON parcels BEGIN UPDATE sizes SET n = n + 1 WHERE name = 'parcels'; END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER parcels_less AFTER DELETE ON parcels BEGIN UPDATE sizes SET n = n - 1 WHERE name = 'parcels'; END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER certificates_more AFTER INSERT ON certificates BEGIN UPDATE sizes SET n = n + 1 WHERE name = 'certificates'; END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER certificates_less AFTER DELETE ON certificates BEGIN UPDATE sizes SET n = n - 1 WHERE name = 'certificates'; END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER handovers_more AFTER INSERT ON handovers BEGIN UPDATE sizes SET n = n + 1 WHERE name = 'handovers'; END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER handovers_less AFTER DELETE ON handovers BEGIN UPDATE sizes SET n = n - 1 WHERE name = 'handovers'; END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER letters_more AFTER INSERT ON letters BEGIN UPDATE sizes SET n = n + 1 WHERE name = 'letters'; END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER letters_less AFTER DELETE ON letters BEGIN UPDATE sizes SET n = n - 1 WHERE name = 'letters'; END;
-- +goose StatementEnd


-- +goose Down
DROP TRIGGER person_texts_in;
DROP TRIGGER device_texts_in;
DROP TRIGGER gateway_texts_in;
DROP TRIGGER account_texts_in;
DROP TRIGGER certificate_texts_in;
DROP TRIGGER found_texts_in;
DROP TRIGGER person_texts_out;
DROP TRIGGER device_texts_out;
DROP TRIGGER gateway_texts_out;
DROP TRIGGER account_texts_out;
DROP TRIGGER certificate_texts_out;
DROP TRIGGER found_texts_out;
DROP TRIGGER person_texts_anew;
DROP TRIGGER device_texts_anew;
DROP TRIGGER gateway_texts_anew;
DROP TRIGGER account_texts_anew;
DROP TRIGGER certificate_texts_anew;
DROP TRIGGER found_texts_anew;
DROP TRIGGER people_in;
DROP TRIGGER people_named;
DROP TRIGGER people_grouped;
DROP TRIGGER people_out;
DROP TRIGGER devices_in;
DROP TRIGGER devices_moved;
DROP TRIGGER devices_named;
DROP TRIGGER devices_out;
DROP TRIGGER gateways_in;
DROP TRIGGER gateways_named;
DROP TRIGGER gateways_out;
DROP TRIGGER accounts_in;
DROP TRIGGER accounts_named;
DROP TRIGGER accounts_out;
DROP TRIGGER certificates_in;
DROP TRIGGER certificates_out;
DROP TRIGGER profiles_in;
DROP TRIGGER profiles_moved;
DROP TRIGGER profiles_named;
DROP TRIGGER profiles_due;
DROP TRIGGER profiles_counted;
DROP TRIGGER profiles_out;
DROP TRIGGER people_more;
DROP TRIGGER people_less;
DROP TRIGGER devices_more;
DROP TRIGGER devices_less;
DROP TRIGGER accounts_more;
DROP TRIGGER accounts_less;
DROP TRIGGER parcels_more;
DROP TRIGGER parcels_less;
DROP TRIGGER certificates_more;
DROP TRIGGER certificates_less;
DROP TRIGGER handovers_more;
DROP TRIGGER handovers_less;
DROP TRIGGER letters_more;
DROP TRIGGER letters_less;
DROP INDEX profiles_second;
CREATE INDEX profiles_second ON profiles (json_extract(body, '$.wishes.second_to')) WHERE json_extract(body, '$.wishes.second_to') IS NOT NULL;
DROP INDEX profiles_fallback;
CREATE INDEX profiles_fallback ON profiles (json_extract(body, '$.wishes.fallback_id')) WHERE json_extract(body, '$.wishes.fallback_id') IS NOT NULL;
DROP INDEX devices_site;
CREATE INDEX devices_site ON devices (id) WHERE json_extract(body, '$.site') IS NOT NULL;
DROP INDEX certificates_revoked;
CREATE INDEX certificates_revoked ON certificates (authority_id, revoked) WHERE revoked IS NOT NULL;
DROP INDEX parcels_built;
ALTER TABLE parcels DROP COLUMN removed;
ALTER TABLE organisation DROP COLUMN keep_parcels;
DROP TABLE rule_sums;
DROP TABLE sizes;
DROP TABLE person_texts;
DROP TABLE device_texts;
DROP TABLE gateway_texts;
DROP TABLE account_texts;
DROP TABLE certificate_texts;
DROP TABLE found_texts;
DROP TABLE texts;
DROP TABLE person_groups;
CREATE TABLE findings_ (
    profile_id TEXT REFERENCES profiles ON DELETE CASCADE,
    gateway_id TEXT REFERENCES gateways ON DELETE CASCADE,
    rule       TEXT NOT NULL,
    severity   TEXT NOT NULL,
    field      TEXT NOT NULL,
    found      TEXT NOT NULL,
    mend       TEXT NOT NULL,
    noun       TEXT NOT NULL,
    object     TEXT NOT NULL,
    pointer    TEXT NOT NULL,
    mendable   INTEGER NOT NULL,
    passed     INTEGER NOT NULL,
    since      INTEGER NOT NULL,
    CHECK ((profile_id IS NULL) <> (gateway_id IS NULL))
);
INSERT INTO findings_ SELECT profile_id, gateway_id, rule, severity, field, found, mend, noun, object, pointer, mendable, passed, since FROM findings;
DROP TABLE findings;
ALTER TABLE findings_ RENAME TO findings;
CREATE INDEX findings_profile ON findings (profile_id);
CREATE INDEX findings_gateway ON findings (gateway_id) WHERE gateway_id IS NOT NULL;
CREATE INDEX findings_rule ON findings (severity, rule);
CREATE INDEX findings_since ON findings (since);
DROP INDEX profiles_worst;
CREATE INDEX profiles_worst ON profiles (blockers DESC, warnings DESC, id);
DROP INDEX profiles_gateway;
CREATE INDEX profiles_gateway ON profiles (gateway_id);
DROP INDEX profiles_changed;
DROP INDEX profiles_platform;
DROP INDEX profiles_person;
DROP INDEX profiles_by_person;
DROP INDEX profiles_by_gateway;
DROP INDEX profiles_by_device;
DROP INDEX people_changed;
DROP INDEX people_mail;
DROP INDEX accounts_changed;
DROP INDEX accounts_by_person;
DROP INDEX devices_by_name;
DROP INDEX devices_changed;
DROP INDEX devices_by_platform;
DROP INDEX devices_by_person;
CREATE INDEX devices_platform ON devices (platform, name);
ALTER TABLE profiles DROP COLUMN platform;
ALTER TABLE profiles DROP COLUMN person_name;
ALTER TABLE profiles DROP COLUMN person_id;
ALTER TABLE profiles DROP COLUMN gateway_name;
ALTER TABLE profiles DROP COLUMN device_name;
ALTER TABLE gateways DROP COLUMN profiles;
ALTER TABLE accounts DROP COLUMN person_name;
ALTER TABLE devices DROP COLUMN person_name;
