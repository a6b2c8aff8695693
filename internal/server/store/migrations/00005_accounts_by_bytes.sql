-- +goose Up
-- Addresses are written in one form by the program, and compared byte by byte: a collation takes ó for o.
ALTER TABLE accounts MODIFY email VARCHAR(200) NOT NULL COLLATE utf8mb4_bin;
UPDATE accounts SET email = LOWER(email);

-- What an idempotency key came with, to tell a repeated request from another one under the same key.
ALTER TABLE edits ADD COLUMN digest BINARY(32) NULL;
ALTER TABLE releases ADD COLUMN digest BINARY(32) NULL;

-- The account that serves may not change these tables at all; the triggers are for those that may. A restore, which
-- puts a whole database in the place of another, says so in its session.
-- +goose StatementBegin
CREATE OR REPLACE TRIGGER audit_is_not_changed BEFORE UPDATE ON audit FOR EACH ROW
  SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'the audit is only added to';
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE TRIGGER audit_is_not_deleted BEFORE DELETE ON audit FOR EACH ROW
  IF @wideknot_restores IS NULL THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'the audit is only added to'; END IF;
-- +goose StatementEnd

-- +goose Down
-- +goose StatementBegin
CREATE OR REPLACE TRIGGER audit_is_not_deleted BEFORE DELETE ON audit FOR EACH ROW
  SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'the audit is only added to';
-- +goose StatementEnd
ALTER TABLE edits DROP COLUMN digest;
ALTER TABLE releases DROP COLUMN digest;
ALTER TABLE accounts MODIFY email VARCHAR(200) NOT NULL COLLATE utf8mb4_general_ci;
