-- By which method somebody proved who they are, as far as the gateway said.
ALTER TABLE sessions ADD COLUMN method TEXT;
