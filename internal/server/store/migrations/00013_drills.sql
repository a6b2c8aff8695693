-- +goose Up
-- Failures that are rehearsed: tunnels held down for a time by gateways, and what was seen each
-- second, against what was predicted. Prediction, began and seen are JSON.
CREATE TABLE drills (
  estate_id   BIGINT UNSIGNED NOT NULL,
  number      BIGINT UNSIGNED NOT NULL,
  part        VARCHAR(200) NOT NULL,
  release_no  BIGINT UNSIGNED NOT NULL,
  seconds     INT NOT NULL,
  begins_at   DATETIME(3) NOT NULL,
  every       VARCHAR(8) NOT NULL DEFAULT '',
  state       VARCHAR(16) NOT NULL,
  words       VARCHAR(1000) NOT NULL DEFAULT '',
  prediction  MEDIUMTEXT NOT NULL CHECK (JSON_VALID(prediction)),
  dead_before MEDIUMTEXT NOT NULL CHECK (JSON_VALID(dead_before)),
  found_after INT NULL,
  back_after  INT NULL,
  stops       TINYINT UNSIGNED NOT NULL DEFAULT 0,
  author      VARCHAR(200) NOT NULL,
  made_at     DATETIME(3) NOT NULL,
  began_at    DATETIME(3) NULL,
  let_go_at   DATETIME(3) NULL,
  ended_at    DATETIME(3) NULL,
  server      VARCHAR(60) NOT NULL DEFAULT '',
  lease_until DATETIME(3) NOT NULL DEFAULT '2000-01-01 00:00:00.000',
  PRIMARY KEY (estate_id, number),
  KEY drills_open (ended_at, begins_at),
  CONSTRAINT drills_of FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

CREATE TABLE drill_points (
  estate_id BIGINT UNSIGNED NOT NULL,
  number    BIGINT UNSIGNED NOT NULL,
  second    INT NOT NULL,
  seen      MEDIUMTEXT NOT NULL CHECK (JSON_VALID(seen)),
  PRIMARY KEY (estate_id, number, second),
  CONSTRAINT drill_points_of FOREIGN KEY (estate_id, number) REFERENCES drills (estate_id, number) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- +goose Down
DROP TABLE drill_points;
DROP TABLE drills;
