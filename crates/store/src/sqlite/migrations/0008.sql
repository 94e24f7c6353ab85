-- One index finds all credentials of a user and, in it, those that are not revoked.
DROP INDEX credentials_by_user;
DROP INDEX credentials_live_by_user;
CREATE INDEX credentials_by_user ON credentials(user, revoked);
-- What a job has made is looked for where it is taken back, and nowhere else.
DROP INDEX credentials_by_job;
-- What the codes of a key pair's second factor come from.
ALTER TABLE credentials ADD COLUMN second_factor TEXT;
-- From this shape on rows of the history say what the row before them says only once: a row without a hash is of the same command as the one
-- before it, one without a "what" has the same. What was changed about a record that was not there before lacks its name, which stands beside.
