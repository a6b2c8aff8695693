-- +goose Up
-- What gateways are asked by who does not hold their lines: the server that holds one asks, and
-- writes the answer. Input and output are JSON of the operation that is asked for.
CREATE TABLE asks (
  id          BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  estate_id   BIGINT UNSIGNED NOT NULL,
  site        VARCHAR(48) NOT NULL,
  about       VARCHAR(80) NOT NULL,
  operation   VARCHAR(32) NOT NULL,
  input       MEDIUMTEXT NOT NULL CHECK (JSON_VALID(input)),
  made_at     DATETIME(3) NOT NULL,
  until_at    DATETIME(3) NOT NULL,
  answered_at DATETIME(3) NULL,
  output      MEDIUMTEXT NULL,
  words       TEXT NOT NULL DEFAULT '',
  KEY asks_open (estate_id, site, answered_at),
  KEY asks_about (estate_id, about),
  KEY asks_until (until_at),
  CONSTRAINT asks_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- +goose Down
DROP TABLE asks;
