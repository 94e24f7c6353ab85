-- One index finds all credentials of a user and, in it, those that are not revoked.
DROP INDEX credentials_by_user;
DROP INDEX credentials_live_by_user;
CREATE INDEX credentials_by_user ON credentials(user, revoked);
-- What a job has made is looked for where it is taken back, and nowhere else.
DROP INDEX credentials_by_job;
-- What the codes of a key pair's second factor come from.
ALTER TABLE credentials ADD COLUMN second_factor TEXT;
DROP TRIGGER pending_changed;
CREATE TRIGGER pending_changed AFTER UPDATE OF device, user, identity, kind, ways, account, gateways, fixed, once, valid_from, expires, revoked, second_factor
ON credentials WHEN OLD.device IS NOT NEW.device OR OLD.user IS NOT NEW.user OR OLD.identity IS NOT NEW.identity OR OLD.kind IS NOT NEW.kind
  OR OLD.ways IS NOT NEW.ways OR OLD.account IS NOT NEW.account OR OLD.gateways IS NOT NEW.gateways OR OLD.fixed IS NOT NEW.fixed
  OR OLD.once IS NOT NEW.once OR OLD.valid_from IS NOT NEW.valid_from OR OLD.expires IS NOT NEW.expires OR OLD.revoked IS NOT NEW.revoked OR OLD.second_factor IS NOT NEW.second_factor
BEGIN
  INSERT INTO pending (gateway, device)
    SELECT substr(value, 1, instr(value, '/') - 1), OLD.device FROM json_tree(OLD.ways) WHERE key = 'listener'
    UNION SELECT substr(value, 1, instr(value, '/') - 1), NEW.device FROM json_tree(NEW.ways) WHERE key = 'listener'
    UNION SELECT value, OLD.device FROM json_each(OLD.gateways)
    UNION SELECT value, NEW.device FROM json_each(NEW.gateways) WHERE true ON CONFLICT DO NOTHING;
END;
-- From this shape on rows of the history say what the row before them says only once: a row without a hash is of the same command as the one
-- before it, one without a "what" has the same. What was changed about a record that was not there before lacks its name, which stands beside.
