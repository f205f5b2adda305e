-- +goose Up
-- People who sign in at somebody else's provider: which, and who they are there.
ALTER TABLE person ADD COLUMN issuer text NOT NULL DEFAULT '', ADD COLUMN subject text NOT NULL DEFAULT '';
CREATE UNIQUE INDEX person_subject ON person (issuer, subject) WHERE subject <> '';
ALTER TABLE session ADD COLUMN elsewhere boolean NOT NULL DEFAULT false; -- it was opened by a provider's word

-- +goose Down
ALTER TABLE session DROP COLUMN elsewhere;
DROP INDEX person_subject;
ALTER TABLE person DROP COLUMN issuer, DROP COLUMN subject;
