-- +goose Up
-- The authority that signs the certificates of gateways and servers.
CREATE TABLE authority (
  id          TINYINT UNSIGNED NOT NULL PRIMARY KEY CHECK (id = 1),
  certificate BLOB NOT NULL,
  sealed      BLOB NOT NULL,
  made_at     DATETIME(3) NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- A code lets one gateway join as a site. It belongs to the first key that used it.
CREATE TABLE join_codes (
  id           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  estate_id    BIGINT UNSIGNED NOT NULL,
  site         VARCHAR(40) NOT NULL,
  secret_hash  BINARY(32) NOT NULL,
  author       VARCHAR(200) NOT NULL,
  made_at      DATETIME(3) NOT NULL,
  ends_at      DATETIME(3) NOT NULL,
  withdrawn_at DATETIME(3) NULL,
  used_at      DATETIME(3) NULL,
  used_key     BINARY(32) NULL,
  UNIQUE KEY join_codes_secret (secret_hash),
  KEY join_codes_site (estate_id, site),
  CONSTRAINT join_codes_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- A gateway that joined, by the digest of its certificate's key. Wanted is the release
-- that it is to be brought to, confirmed the one that it said it keeps.
CREATE TABLE gateways (
  estate_id        BIGINT UNSIGNED NOT NULL,
  site             VARCHAR(40) NOT NULL,
  key_digest       BINARY(32) NOT NULL,
  expires_at       DATETIME(3) NOT NULL,
  joined_at        DATETIME(3) NOT NULL,
  barred_at        DATETIME(3) NULL,
  wanted           BIGINT UNSIGNED NOT NULL DEFAULT 0,
  attempt          INT UNSIGNED NOT NULL DEFAULT 0,
  confirmed        BIGINT UNSIGNED NOT NULL DEFAULT 0,
  confirmed_digest VARCHAR(100) NOT NULL DEFAULT '',
  offers           MEDIUMTEXT NULL,
  offered_at       DATETIME(3) NULL,
  refusals         TEXT NOT NULL DEFAULT '{}' CHECK (JSON_VALID(refusals)),
  PRIMARY KEY (estate_id, site),
  CONSTRAINT gateways_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Which server holds the line of a gateway, and what it reported last. A new line raises
-- the epoch: who holds an older one may change nothing any more.
CREATE TABLE gateway_lines (
  estate_id  BIGINT UNSIGNED NOT NULL,
  site       VARCHAR(40) NOT NULL,
  server     VARCHAR(60) NOT NULL,
  epoch      BIGINT UNSIGNED NOT NULL,
  since      DATETIME(3) NOT NULL,
  ended_at   DATETIME(3) NULL,
  doubled_at DATETIME(3) NULL,
  phase      VARCHAR(16) NOT NULL DEFAULT '',
  words      TEXT NOT NULL DEFAULT '',
  summary    TEXT NOT NULL DEFAULT '{}' CHECK (JSON_VALID(summary)),
  state      MEDIUMTEXT NULL,
  state_at   DATETIME(3) NULL,
  changed_at DATETIME(3) NOT NULL,
  PRIMARY KEY (estate_id, site),
  KEY gateway_lines_changed (estate_id, changed_at),
  CONSTRAINT gateway_lines_gateway FOREIGN KEY (estate_id, site) REFERENCES gateways (estate_id, site) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- The servers that hold lines, while they live.
CREATE TABLE servers (
  name    VARCHAR(60) NOT NULL PRIMARY KEY,
  seen_at DATETIME(3) NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- +goose Down
DROP TABLE servers;
DROP TABLE gateway_lines;
DROP TABLE gateways;
DROP TABLE join_codes;
DROP TABLE authority;
