-- +goose Up
CREATE TABLE estates (
  id          BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  `key`       VARCHAR(40) NOT NULL,
  revision    BIGINT UNSIGNED NOT NULL,
  allocations LONGTEXT NOT NULL CHECK (JSON_VALID(allocations)),
  created_at  DATETIME(3) NOT NULL,
  UNIQUE KEY estates_key (`key`)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- The parts of an estate: its head, sites and overlays, each as the document has it.
CREATE TABLE parts (
  estate_id BIGINT UNSIGNED NOT NULL,
  kind      VARCHAR(10) NOT NULL,
  `key`     VARCHAR(40) NOT NULL,
  place     BIGINT NOT NULL,
  revision  BIGINT UNSIGNED NOT NULL,
  body      LONGTEXT NOT NULL CHECK (JSON_VALID(body)),
  PRIMARY KEY (estate_id, kind, `key`),
  CONSTRAINT parts_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

CREATE TABLE edits (
  estate_id BIGINT UNSIGNED NOT NULL,
  number    BIGINT UNSIGNED NOT NULL,
  at        DATETIME(3) NOT NULL,
  label     VARCHAR(255) NOT NULL,
  request   VARCHAR(64) NULL,
  undone    BOOLEAN NOT NULL DEFAULT FALSE,
  changes   LONGTEXT NOT NULL CHECK (JSON_VALID(changes)),
  PRIMARY KEY (estate_id, number),
  UNIQUE KEY edits_request (estate_id, request),
  KEY edits_undone (estate_id, undone, number),
  CONSTRAINT edits_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Private keys, sealed; they outlive their site, so that it finds its key when it comes back.
CREATE TABLE site_keys (
  estate_id  BIGINT UNSIGNED NOT NULL,
  site       VARCHAR(40) NOT NULL,
  public_key CHAR(44) NOT NULL,
  sealed     VARBINARY(255) NOT NULL,
  PRIMARY KEY (estate_id, site),
  CONSTRAINT site_keys_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- +goose Down
DROP TABLE site_keys;
DROP TABLE edits;
DROP TABLE parts;
DROP TABLE estates;
