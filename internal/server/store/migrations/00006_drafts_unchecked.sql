-- +goose Up
-- A check is made again whenever anything of the row changes, and reads more than a megabyte for an estate of 1,000
-- sites: longer than all else that an edit writes. The program alone writes this column.
ALTER TABLE drafts MODIFY allocations LONGTEXT NOT NULL;

-- +goose Down
ALTER TABLE drafts MODIFY allocations LONGTEXT NOT NULL CHECK (JSON_VALID(allocations));
