-- +goose Up
-- What gateways measured of themselves, by how long a row is of. A layout names, in their order,
-- the tunnels, links and ways that the data of its rows (CBOR, RFC 8949) is of, and the digest of
-- the configuration that ran. Times are in seconds since 1970. Partitions by day are made ahead
-- while a server runs, and dropped when they are too old; so there are no foreign keys.
CREATE TABLE sample_layouts (
  id        BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  estate_id BIGINT UNSIGNED NOT NULL,
  site      VARCHAR(48) NOT NULL,
  hash      BINARY(32) NOT NULL,
  names     MEDIUMTEXT NOT NULL CHECK (JSON_VALID(names)),
  made_at   DATETIME(3) NOT NULL,
  UNIQUE KEY sample_layouts_once (estate_id, site, hash),
  CONSTRAINT sample_layouts_of FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

CREATE TABLE samples_10s (
  layout BIGINT UNSIGNED NOT NULL,
  at     INT UNSIGNED NOT NULL,
  data   BLOB NOT NULL,
  PRIMARY KEY (layout, at)
) ENGINE = InnoDB PARTITION BY RANGE (at) (PARTITION d0 VALUES LESS THAN (1));

CREATE TABLE samples_1m (
  layout BIGINT UNSIGNED NOT NULL,
  at     INT UNSIGNED NOT NULL,
  data   BLOB NOT NULL,
  PRIMARY KEY (layout, at)
) ENGINE = InnoDB PARTITION BY RANGE (at) (PARTITION d0 VALUES LESS THAN (1));

CREATE TABLE samples_15m (
  layout BIGINT UNSIGNED NOT NULL,
  at     INT UNSIGNED NOT NULL,
  data   BLOB NOT NULL,
  PRIMARY KEY (layout, at)
) ENGINE = InnoDB PARTITION BY RANGE (at) (PARTITION d0 VALUES LESS THAN (1));

ALTER TABLE events ADD KEY events_when (estate_id, at);

-- +goose Down
ALTER TABLE events DROP KEY events_when;
DROP TABLE samples_15m;
DROP TABLE samples_1m;
DROP TABLE samples_10s;
DROP TABLE sample_layouts;
