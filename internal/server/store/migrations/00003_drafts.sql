-- +goose Up
CREATE TABLE drafts (
  id           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  estate_id    BIGINT UNSIGNED NOT NULL,
  `key`        VARCHAR(40) NOT NULL,
  name         VARCHAR(200) NOT NULL,
  revision     BIGINT UNSIGNED NOT NULL,
  base         BIGINT UNSIGNED NOT NULL,
  allocations  LONGTEXT NOT NULL CHECK (JSON_VALID(allocations)),
  author       VARCHAR(200) NOT NULL,
  created_at   DATETIME(3) NOT NULL,
  discarded_at DATETIME(3) NULL,
  UNIQUE KEY drafts_key (estate_id, `key`),
  CONSTRAINT drafts_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- What was released, whole. Number 0 is the empty estate that every one starts from.
CREATE TABLE releases (
  estate_id BIGINT UNSIGNED NOT NULL,
  number    BIGINT UNSIGNED NOT NULL,
  at        DATETIME(3) NOT NULL,
  author    VARCHAR(200) NOT NULL,
  draft     VARCHAR(40) NOT NULL,
  message   TEXT NOT NULL,
  reason    TEXT NOT NULL,
  request   VARCHAR(64) NULL,
  document  LONGTEXT NOT NULL CHECK (JSON_VALID(document)),
  PRIMARY KEY (estate_id, number),
  UNIQUE KEY releases_request (estate_id, request),
  CONSTRAINT releases_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- +goose StatementBegin
CREATE TRIGGER releases_are_not_changed BEFORE UPDATE ON releases FOR EACH ROW
  SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'a release is never changed';
-- +goose StatementEnd

-- Who has a draft open, by stream.
CREATE TABLE presence (
  stream     CHAR(26) NOT NULL PRIMARY KEY,
  draft_id   BIGINT UNSIGNED NOT NULL,
  account_id BIGINT UNSIGNED NOT NULL,
  name       VARCHAR(200) NOT NULL,
  seen_at    DATETIME(3) NOT NULL,
  KEY presence_draft (draft_id, seen_at),
  CONSTRAINT presence_draft FOREIGN KEY (draft_id) REFERENCES drafts (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Each estate that is there becomes a first draft on an empty release.
INSERT INTO drafts (estate_id, `key`, name, revision, base, allocations, author, created_at)
  SELECT id, 'first', 'First draft', revision, 0, allocations, 'wideknot', created_at FROM estates;
INSERT INTO releases (estate_id, number, at, author, draft, message, reason, document)
  SELECT e.id, 0, e.created_at, 'wideknot', '', 'The empty estate', '',
         JSON_OBJECT('wideknot', 1, 'estate', JSON_OBJECT('name', JSON_VALUE(p.body, '$.name')))
  FROM estates e JOIN parts p ON p.estate_id = e.id AND p.kind = 'head';

ALTER TABLE parts ADD COLUMN draft_id BIGINT UNSIGNED NOT NULL FIRST;
UPDATE parts p JOIN drafts d ON d.estate_id = p.estate_id SET p.draft_id = d.id;
ALTER TABLE parts DROP FOREIGN KEY parts_estate;
ALTER TABLE parts DROP PRIMARY KEY, DROP COLUMN estate_id, ADD PRIMARY KEY (draft_id, kind, `key`),
  ADD CONSTRAINT parts_draft FOREIGN KEY (draft_id) REFERENCES drafts (id) ON DELETE CASCADE;

-- Edits are kept for ever: one that can no longer be redone is only marked.
ALTER TABLE edits ADD COLUMN draft_id BIGINT UNSIGNED NOT NULL FIRST, ADD COLUMN kind VARCHAR(10) NOT NULL DEFAULT 'edit',
  ADD COLUMN dropped BOOLEAN NOT NULL DEFAULT FALSE, ADD COLUMN author VARCHAR(200) NOT NULL DEFAULT 'wideknot',
  ADD COLUMN former_base BIGINT UNSIGNED NOT NULL DEFAULT 0, ADD COLUMN base BIGINT UNSIGNED NOT NULL DEFAULT 0;
UPDATE edits x JOIN drafts d ON d.estate_id = x.estate_id SET x.draft_id = d.id;
ALTER TABLE edits DROP FOREIGN KEY edits_estate;
ALTER TABLE edits DROP PRIMARY KEY, DROP KEY edits_request, DROP KEY edits_undone, DROP COLUMN estate_id,
  ADD PRIMARY KEY (draft_id, number), ADD UNIQUE KEY edits_request (draft_id, request), ADD KEY edits_step (draft_id, kind, dropped, undone, number),
  ADD CONSTRAINT edits_draft FOREIGN KEY (draft_id) REFERENCES drafts (id) ON DELETE CASCADE;

ALTER TABLE estates ADD COLUMN name VARCHAR(200) NOT NULL DEFAULT '', ADD COLUMN `release` BIGINT UNSIGNED NOT NULL DEFAULT 0;
UPDATE estates e JOIN releases r ON r.estate_id = e.id SET e.name = JSON_VALUE(r.document, '$.estate.name');
ALTER TABLE estates DROP COLUMN revision, DROP COLUMN allocations;

-- +goose Down
-- The first draft of each estate stays; other drafts, the releases and edits that were dropped go.
ALTER TABLE estates ADD COLUMN revision BIGINT UNSIGNED NOT NULL DEFAULT 1, ADD COLUMN allocations LONGTEXT NOT NULL DEFAULT '{}' CHECK (JSON_VALID(allocations)),
  DROP COLUMN name, DROP COLUMN `release`;
DELETE d FROM drafts d JOIN drafts other ON other.estate_id = d.estate_id AND other.id < d.id;
UPDATE estates e JOIN drafts d ON d.estate_id = e.id SET e.revision = d.revision, e.allocations = d.allocations;
DELETE FROM edits WHERE dropped OR kind <> 'edit';
ALTER TABLE edits ADD COLUMN estate_id BIGINT UNSIGNED NOT NULL FIRST;
UPDATE edits x JOIN drafts d ON d.id = x.draft_id SET x.estate_id = d.estate_id;
ALTER TABLE edits DROP FOREIGN KEY edits_draft;
ALTER TABLE edits DROP PRIMARY KEY, DROP KEY edits_request, DROP KEY edits_step, DROP COLUMN draft_id, DROP COLUMN kind, DROP COLUMN dropped,
  DROP COLUMN author, DROP COLUMN former_base, DROP COLUMN base,
  ADD PRIMARY KEY (estate_id, number), ADD UNIQUE KEY edits_request (estate_id, request), ADD KEY edits_undone (estate_id, undone, number),
  ADD CONSTRAINT edits_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE;
ALTER TABLE parts ADD COLUMN estate_id BIGINT UNSIGNED NOT NULL FIRST;
UPDATE parts p JOIN drafts d ON d.id = p.draft_id SET p.estate_id = d.estate_id;
ALTER TABLE parts DROP FOREIGN KEY parts_draft;
ALTER TABLE parts DROP PRIMARY KEY, DROP COLUMN draft_id, ADD PRIMARY KEY (estate_id, kind, `key`),
  ADD CONSTRAINT parts_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE;
DROP TABLE presence;
DROP TABLE releases;
DROP TABLE drafts;
