-- Hosts that are reached over SSH; gateways that are upgraded and watched without a person; the newest row of the history,
-- kept apart from it, so that rows cut off its end show.
ALTER TABLE hosts ADD COLUMN access TEXT NOT NULL DEFAULT '{}';
ALTER TABLE gateways ADD COLUMN updates TEXT;
ALTER TABLE gateways ADD COLUMN metrics TEXT;
CREATE TABLE history_head (one INTEGER PRIMARY KEY CHECK (one = 1), number INTEGER NOT NULL, hash TEXT NOT NULL) STRICT;
INSERT INTO history_head (one, number, hash) SELECT 1, number, hash FROM history ORDER BY number DESC LIMIT 1;
