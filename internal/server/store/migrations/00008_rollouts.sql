-- +goose Up
-- What a gateway is to be is a stage between two releases; attempts are counted, and the one
-- that the gateway confirmed last is kept.
ALTER TABLE gateways
  ADD COLUMN base BIGINT UNSIGNED NOT NULL DEFAULT 0 AFTER wanted,
  ADD COLUMN stage TINYINT UNSIGNED NOT NULL DEFAULT 3 AFTER base,
  ADD COLUMN confirmed_attempt INT UNSIGNED NOT NULL DEFAULT 0 AFTER confirmed_digest,
  ADD COLUMN confirmed_stage TINYINT UNSIGNED NOT NULL DEFAULT 3 AFTER confirmed_attempt,
  ADD COLUMN put_back VARCHAR(100) NOT NULL DEFAULT '' AFTER confirmed_stage;

-- A release on its way to the gateways of an estate. Active is 1 while it is, else NULL: there
-- is one at a time. The server whose name and time stand there goes on with it.
CREATE TABLE rollouts (
  id          BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  estate_id   BIGINT UNSIGNED NOT NULL,
  number      BIGINT UNSIGNED NOT NULL,
  release_no  BIGINT UNSIGNED NOT NULL,
  author      VARCHAR(200) NOT NULL,
  made_at     DATETIME(3) NOT NULL,
  ended_at    DATETIME(3) NULL,
  active      TINYINT UNSIGNED NULL CHECK (active = 1),
  state       VARCHAR(16) NOT NULL,
  words       TEXT NOT NULL DEFAULT '',
  settings    TEXT NOT NULL CHECK (JSON_VALID(settings)),
  plan        MEDIUMTEXT NOT NULL CHECK (JSON_VALID(plan)),
  round       INT NOT NULL DEFAULT 0,
  phase       VARCHAR(16) NOT NULL DEFAULT '',
  since       DATETIME(3) NOT NULL,
  proof       MEDIUMTEXT NOT NULL DEFAULT '{}' CHECK (JSON_VALID(proof)),
  version     INT UNSIGNED NOT NULL DEFAULT 0,
  server      VARCHAR(60) NOT NULL DEFAULT '',
  lease_until DATETIME(3) NOT NULL DEFAULT '2000-01-01 00:00:00.000',
  UNIQUE KEY rollouts_number (estate_id, number),
  UNIQUE KEY rollouts_active (estate_id, active),
  CONSTRAINT rollouts_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- What happened in a rollout, in its order.
CREATE TABLE rollout_notes (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  rollout_id BIGINT UNSIGNED NOT NULL,
  at         DATETIME(3) NOT NULL,
  words      TEXT NOT NULL,
  KEY rollout_notes_rollout (rollout_id, id),
  CONSTRAINT rollout_notes_rollout FOREIGN KEY (rollout_id) REFERENCES rollouts (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- +goose Down
DROP TABLE rollout_notes;
DROP TABLE rollouts;
ALTER TABLE gateways DROP COLUMN put_back, DROP COLUMN confirmed_stage, DROP COLUMN confirmed_attempt, DROP COLUMN stage, DROP COLUMN base;
