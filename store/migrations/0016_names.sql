-- +goose Up
-- Names that professionals use; nothing of what is stored changes its meaning.
DROP TRIGGER profiles_counted;
DROP TRIGGER profiles_out;
ALTER TABLE gateways RENAME COLUMN blockers TO errors;
ALTER TABLE gateways RENAME COLUMN advice TO notes;
ALTER TABLE profiles RENAME COLUMN blockers TO errors;
ALTER TABLE profiles RENAME COLUMN advice TO notes;
UPDATE sizes SET name = 'errors' WHERE name = 'blockers';
UPDATE sizes SET name = 'notes' WHERE name = 'advice';
UPDATE sizes SET name = 'emails' WHERE name = 'letters';
-- +goose StatementBegin
CREATE TRIGGER profiles_counted AFTER UPDATE OF errors, warnings, notes ON profiles
WHEN OLD.errors <> NEW.errors OR OLD.warnings <> NEW.warnings OR OLD.notes <> NEW.notes BEGIN
    UPDATE sizes SET n = n + CASE name
        WHEN 'errors' THEN NEW.errors - OLD.errors WHEN 'warnings' THEN NEW.warnings - OLD.warnings WHEN 'notes' THEN NEW.notes - OLD.notes
        WHEN 'blocked' THEN (NEW.errors > 0) - (OLD.errors > 0)
        WHEN 'warned' THEN (NEW.errors = 0 AND NEW.warnings > 0) - (OLD.errors = 0 AND OLD.warnings > 0)
        ELSE CASE WHEN OLD.errors + OLD.warnings = 0 AND NEW.errors + NEW.warnings = 0 THEN 0
            ELSE (NEW.errors = 0 AND NEW.warnings = 0 AND NEW.touched = NEW.seen) - (OLD.errors = 0 AND OLD.warnings = 0 AND OLD.touched = OLD.seen) END
        END WHERE name IN ('errors', 'warnings', 'notes', 'blocked', 'warned', 'clean');
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER profiles_out AFTER DELETE ON profiles BEGIN
    UPDATE gateways SET profiles = profiles - 1 WHERE id = OLD.gateway_id;
    UPDATE sizes SET n = n - CASE name
        WHEN 'profiles' THEN 1 WHEN 'due' THEN OLD.touched <> OLD.seen
        WHEN 'errors' THEN OLD.errors WHEN 'warnings' THEN OLD.warnings WHEN 'notes' THEN OLD.notes
        WHEN 'blocked' THEN OLD.errors > 0 WHEN 'warned' THEN OLD.errors = 0 AND OLD.warnings > 0
        ELSE OLD.errors = 0 AND OLD.warnings = 0 AND OLD.touched = OLD.seen END
        WHERE name IN ('profiles', 'due', 'errors', 'warnings', 'notes', 'blocked', 'warned', 'clean');
END;
-- +goose StatementEnd

-- Findings, and what operators said about rules.
ALTER TABLE findings RENAME COLUMN mend TO fix;
ALTER TABLE findings RENAME COLUMN mendable TO fixable;
ALTER TABLE findings RENAME COLUMN passed TO overridden;
DROP INDEX findings_rank;
ALTER TABLE findings DROP COLUMN rank;
UPDATE findings SET severity = CASE severity WHEN 'blocker' THEN 'error' WHEN 'advice' THEN 'note' ELSE severity END;
ALTER TABLE findings ADD COLUMN rank INTEGER AS (CASE severity WHEN 'error' THEN 0 WHEN 'warning' THEN 1 ELSE 2 END) VIRTUAL;
CREATE INDEX findings_rank ON findings (rank, rule, n);
UPDATE past_findings SET severity = CASE severity WHEN 'blocker' THEN 'error' WHEN 'advice' THEN 'note' ELSE severity END;
UPDATE rule_sums SET severity = CASE severity WHEN 'blocker' THEN 'error' WHEN 'advice' THEN 'note' ELSE severity END;
CREATE TABLE severities_ (
    rule     TEXT PRIMARY KEY,
    severity TEXT NOT NULL CHECK (severity IN ('error', 'warning', 'note', 'off')),
    operator TEXT NOT NULL,
    changed  INTEGER NOT NULL
) WITHOUT ROWID;
INSERT INTO severities_ SELECT rule, CASE severity WHEN 'blocker' THEN 'error' WHEN 'advice' THEN 'note' ELSE severity END, operator, changed FROM severities;
DROP TABLE severities;
ALTER TABLE severities_ RENAME TO severities;
CREATE TABLE codes_ (old TEXT PRIMARY KEY, new TEXT NOT NULL);
INSERT INTO codes_ VALUES ('edge-blank', 'edge-space'),
    ('login-blank', 'login-space'),
    ('gateway-silent', 'gateway-no-response'),
    ('shown-certificate-ended', 'shown-certificate-expired'),
    ('certificate-ending', 'certificate-expiring'),
    ('issuer-ends-first', 'issuer-expires-first'),
    ('device-withdrawn', 'device-offboarded');
UPDATE findings SET rule = (SELECT new FROM codes_ WHERE old = rule) WHERE rule IN (SELECT old FROM codes_);
UPDATE past_findings SET rule = (SELECT new FROM codes_ WHERE old = rule) WHERE rule IN (SELECT old FROM codes_);
UPDATE rule_sums SET rule = (SELECT new FROM codes_ WHERE old = rule) WHERE rule IN (SELECT old FROM codes_);
UPDATE severities SET rule = (SELECT new FROM codes_ WHERE old = rule) WHERE rule IN (SELECT old FROM codes_);
UPDATE overrides SET rule = (SELECT new FROM codes_ WHERE old = rule) WHERE rule IN (SELECT old FROM codes_);
UPDATE jobs SET subject = (SELECT new FROM codes_ WHERE old = subject) WHERE subject IN (SELECT old FROM codes_);
DROP TABLE codes_;

-- Records.
ALTER TABLE authorities RENAME COLUMN ends TO expires;
ALTER TABLE authorities RENAME COLUMN crossed TO rolled_over;
ALTER TABLE certificates RENAME COLUMN ends TO expires;
ALTER TABLE devices RENAME COLUMN identity_ends TO identity_expires;
ALTER TABLE organisation RENAME COLUMN ask_every TO probe_every;
ALTER TABLE handovers RENAME COLUMN openings TO uses;
ALTER TABLE handovers RENAME COLUMN most TO max_uses;
ALTER TABLE reports RENAME COLUMN said TO message;
DROP INDEX certificates_ends;
DROP INDEX devices_identity_ends;
CREATE INDEX certificates_expires ON certificates (expires);
CREATE INDEX devices_identity_expires ON devices (identity_expires) WHERE identity_expires IS NOT NULL;
ALTER TABLE sightings RENAME TO seen_connections;
ALTER TABLE withdrawals RENAME TO offboardings;
DROP INDEX withdrawals_object;
CREATE INDEX offboardings_object ON offboardings (object);
DROP TRIGGER letters_more;
DROP TRIGGER letters_less;
DROP INDEX letters_due;
DROP INDEX letters_created;
ALTER TABLE letters RENAME TO emails;
CREATE INDEX emails_due ON emails (due) WHERE state = 'waiting';
CREATE INDEX emails_created ON emails (created);
-- +goose StatementBegin
CREATE TRIGGER emails_more AFTER INSERT ON emails BEGIN UPDATE sizes SET n = n + 1 WHERE name = 'emails'; END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER emails_less AFTER DELETE ON emails BEGIN UPDATE sizes SET n = n - 1 WHERE name = 'emails'; END;
-- +goose StatementEnd
UPDATE jobs SET subject = replace(replace(subject, '"wish":', '"request":'), '"openings":', '"uses":') WHERE kind = 'hand-over';
UPDATE jobs SET kind = 'probe' WHERE kind = 'ask';
UPDATE jobs SET kind = 'fix' WHERE kind = 'mend';

-- What stands in bodies. A body that cannot be read stays as it is.
DROP INDEX profiles_fallback;
DROP INDEX profiles_second;
UPDATE profiles SET body = json_remove(json_set(body, '$.preferences', json(body -> '$.wishes')), '$.wishes')
    WHERE json_type(iif(json_valid(body), body, '{}'), '$.wishes') IS NOT NULL;
UPDATE profiles SET body = json_remove(json_set(body, '$.preferences.certificate_passphrase', json(body -> '$.preferences.opening')), '$.preferences.opening')
    WHERE json_type(iif(json_valid(body), body, '{}'), '$.preferences.opening') IS NOT NULL;
CREATE INDEX profiles_fallback ON profiles (json_extract(iif(json_valid(body), body, '{}'), '$.preferences.fallback_id'))
    WHERE json_extract(iif(json_valid(body), body, '{}'), '$.preferences.fallback_id') IS NOT NULL;
CREATE INDEX profiles_second ON profiles (json_extract(iif(json_valid(body), body, '{}'), '$.preferences.second_to'))
    WHERE json_extract(iif(json_valid(body), body, '{}'), '$.preferences.second_to') IS NOT NULL;
UPDATE devices SET body = json_remove(json_set(body, '$.offboarded', json(body -> '$.withdrawn')), '$.withdrawn')
    WHERE json_type(iif(json_valid(body), body, '{}'), '$.withdrawn') IS NOT NULL;
UPDATE gateways SET body = json_remove(json_set(body, '$.probe_at', json(body -> '$.ask_at')), '$.ask_at')
    WHERE json_type(iif(json_valid(body), body, '{}'), '$.ask_at') IS NOT NULL;
UPDATE probes SET body = replace(replace(replace(replace(replace(replace(replace(body, '"severity":"blocker"', '"severity":"error"'), '"severity":"advice"', '"severity":"note"'), '"mend":', '"fix":'), '"unasked":', '"unprobed":'), '"state":"silent"', '"state":"no-response"'), '"state":"sound"', '"state":"matches"'), '"state":"unasked"', '"state":"unprobed"');
UPDATE probes SET state = CASE state WHEN 'sound' THEN 'matches' WHEN 'silent' THEN 'no-response' ELSE state END;

-- +goose Down
DROP TRIGGER profiles_counted;
DROP TRIGGER profiles_out;
ALTER TABLE gateways RENAME COLUMN errors TO blockers;
ALTER TABLE gateways RENAME COLUMN notes TO advice;
ALTER TABLE profiles RENAME COLUMN errors TO blockers;
ALTER TABLE profiles RENAME COLUMN notes TO advice;
UPDATE sizes SET name = 'blockers' WHERE name = 'errors';
UPDATE sizes SET name = 'advice' WHERE name = 'notes';
UPDATE sizes SET name = 'letters' WHERE name = 'emails';
-- +goose StatementBegin
CREATE TRIGGER profiles_counted AFTER UPDATE OF blockers, warnings, advice ON profiles
WHEN OLD.blockers <> NEW.blockers OR OLD.warnings <> NEW.warnings OR OLD.advice <> NEW.advice BEGIN
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

-- Findings, and what operators said about rules.
ALTER TABLE findings RENAME COLUMN fix TO mend;
ALTER TABLE findings RENAME COLUMN fixable TO mendable;
ALTER TABLE findings RENAME COLUMN overridden TO passed;
DROP INDEX findings_rank;
ALTER TABLE findings DROP COLUMN rank;
UPDATE findings SET severity = CASE severity WHEN 'error' THEN 'blocker' WHEN 'note' THEN 'advice' ELSE severity END;
ALTER TABLE findings ADD COLUMN rank INTEGER AS (CASE severity WHEN 'blocker' THEN 0 WHEN 'warning' THEN 1 ELSE 2 END) VIRTUAL;
CREATE INDEX findings_rank ON findings (rank, rule, n);
UPDATE past_findings SET severity = CASE severity WHEN 'error' THEN 'blocker' WHEN 'note' THEN 'advice' ELSE severity END;
UPDATE rule_sums SET severity = CASE severity WHEN 'error' THEN 'blocker' WHEN 'note' THEN 'advice' ELSE severity END;
CREATE TABLE severities_ (
    rule     TEXT PRIMARY KEY,
    severity TEXT NOT NULL CHECK (severity IN ('blocker', 'warning', 'advice', 'off')),
    operator TEXT NOT NULL,
    changed  INTEGER NOT NULL
) WITHOUT ROWID;
INSERT INTO severities_ SELECT rule, CASE severity WHEN 'error' THEN 'blocker' WHEN 'note' THEN 'advice' ELSE severity END, operator, changed FROM severities;
DROP TABLE severities;
ALTER TABLE severities_ RENAME TO severities;
CREATE TABLE codes_ (old TEXT PRIMARY KEY, new TEXT NOT NULL);
INSERT INTO codes_ VALUES ('edge-space', 'edge-blank'),
    ('login-space', 'login-blank'),
    ('gateway-no-response', 'gateway-silent'),
    ('shown-certificate-expired', 'shown-certificate-ended'),
    ('certificate-expiring', 'certificate-ending'),
    ('issuer-expires-first', 'issuer-ends-first'),
    ('device-offboarded', 'device-withdrawn');
UPDATE findings SET rule = (SELECT new FROM codes_ WHERE old = rule) WHERE rule IN (SELECT old FROM codes_);
UPDATE past_findings SET rule = (SELECT new FROM codes_ WHERE old = rule) WHERE rule IN (SELECT old FROM codes_);
UPDATE rule_sums SET rule = (SELECT new FROM codes_ WHERE old = rule) WHERE rule IN (SELECT old FROM codes_);
UPDATE severities SET rule = (SELECT new FROM codes_ WHERE old = rule) WHERE rule IN (SELECT old FROM codes_);
UPDATE overrides SET rule = (SELECT new FROM codes_ WHERE old = rule) WHERE rule IN (SELECT old FROM codes_);
UPDATE jobs SET subject = (SELECT new FROM codes_ WHERE old = subject) WHERE subject IN (SELECT old FROM codes_);
DROP TABLE codes_;

-- Records.
ALTER TABLE authorities RENAME COLUMN expires TO ends;
ALTER TABLE authorities RENAME COLUMN rolled_over TO crossed;
ALTER TABLE certificates RENAME COLUMN expires TO ends;
ALTER TABLE devices RENAME COLUMN identity_expires TO identity_ends;
ALTER TABLE organisation RENAME COLUMN probe_every TO ask_every;
ALTER TABLE handovers RENAME COLUMN uses TO openings;
ALTER TABLE handovers RENAME COLUMN max_uses TO most;
ALTER TABLE reports RENAME COLUMN message TO said;
DROP INDEX certificates_expires;
DROP INDEX devices_identity_expires;
CREATE INDEX certificates_ends ON certificates (ends);
CREATE INDEX devices_identity_ends ON devices (identity_ends) WHERE identity_ends IS NOT NULL;
ALTER TABLE seen_connections RENAME TO sightings;
ALTER TABLE offboardings RENAME TO withdrawals;
DROP INDEX offboardings_object;
CREATE INDEX withdrawals_object ON withdrawals (object);
DROP TRIGGER emails_more;
DROP TRIGGER emails_less;
DROP INDEX emails_due;
DROP INDEX emails_created;
ALTER TABLE emails RENAME TO letters;
CREATE INDEX letters_due ON letters (due) WHERE state = 'waiting';
CREATE INDEX letters_created ON letters (created);
-- +goose StatementBegin
CREATE TRIGGER letters_more AFTER INSERT ON letters BEGIN UPDATE sizes SET n = n + 1 WHERE name = 'letters'; END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER letters_less AFTER DELETE ON letters BEGIN UPDATE sizes SET n = n - 1 WHERE name = 'letters'; END;
-- +goose StatementEnd
UPDATE jobs SET subject = replace(replace(subject, '"request":', '"wish":'), '"uses":', '"openings":') WHERE kind = 'hand-over';
UPDATE jobs SET kind = 'ask' WHERE kind = 'probe';
UPDATE jobs SET kind = 'mend' WHERE kind = 'fix';

-- What stands in bodies. A body that cannot be read stays as it is.
DROP INDEX profiles_fallback;
DROP INDEX profiles_second;
UPDATE profiles SET body = json_remove(json_set(body, '$.preferences.opening', json(body -> '$.preferences.certificate_passphrase')), '$.preferences.certificate_passphrase')
    WHERE json_type(iif(json_valid(body), body, '{}'), '$.preferences.certificate_passphrase') IS NOT NULL;
UPDATE profiles SET body = json_remove(json_set(body, '$.wishes', json(body -> '$.preferences')), '$.preferences')
    WHERE json_type(iif(json_valid(body), body, '{}'), '$.preferences') IS NOT NULL;
CREATE INDEX profiles_fallback ON profiles (json_extract(iif(json_valid(body), body, '{}'), '$.wishes.fallback_id'))
    WHERE json_extract(iif(json_valid(body), body, '{}'), '$.wishes.fallback_id') IS NOT NULL;
CREATE INDEX profiles_second ON profiles (json_extract(iif(json_valid(body), body, '{}'), '$.wishes.second_to'))
    WHERE json_extract(iif(json_valid(body), body, '{}'), '$.wishes.second_to') IS NOT NULL;
UPDATE devices SET body = json_remove(json_set(body, '$.withdrawn', json(body -> '$.offboarded')), '$.offboarded')
    WHERE json_type(iif(json_valid(body), body, '{}'), '$.offboarded') IS NOT NULL;
UPDATE gateways SET body = json_remove(json_set(body, '$.ask_at', json(body -> '$.probe_at')), '$.probe_at')
    WHERE json_type(iif(json_valid(body), body, '{}'), '$.probe_at') IS NOT NULL;
UPDATE probes SET body = replace(replace(replace(replace(replace(replace(replace(body, '"severity":"error"', '"severity":"blocker"'), '"severity":"note"', '"severity":"advice"'), '"fix":', '"mend":'), '"unprobed":', '"unasked":'), '"state":"no-response"', '"state":"silent"'), '"state":"matches"', '"state":"sound"'), '"state":"unprobed"', '"state":"unasked"');
UPDATE probes SET state = CASE state WHEN 'matches' THEN 'sound' WHEN 'no-response' THEN 'silent' ELSE state END;
