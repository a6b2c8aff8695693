-- +goose Up
-- Someone who may sign in. Without password and subject nobody can, until a link is used.
CREATE TABLE accounts (
  id            BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  email         VARCHAR(200) NOT NULL COLLATE utf8mb4_general_ci,
  name          VARCHAR(200) NOT NULL,
  administrator BOOLEAN NOT NULL DEFAULT FALSE,
  password      VARCHAR(255) NOT NULL DEFAULT '',
  issuer        VARCHAR(255) NOT NULL DEFAULT '',
  subject       VARCHAR(255) NULL,
  created_at    DATETIME(3) NOT NULL,
  closed_at     DATETIME(3) NULL,
  UNIQUE KEY accounts_email (email),
  UNIQUE KEY accounts_subject (issuer, subject)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- What a browser holds is kept here as its SHA-256 only; so are tokens and links.
CREATE TABLE sessions (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  account_id BIGINT UNSIGNED NOT NULL,
  hash       BINARY(32) NOT NULL,
  former     BINARY(32) NULL,
  rotated_at DATETIME(3) NOT NULL,
  created_at DATETIME(3) NOT NULL,
  seen_at    DATETIME(3) NOT NULL,
  expires_at DATETIME(3) NOT NULL,
  address    VARCHAR(45) NOT NULL,
  agent      VARCHAR(255) NOT NULL,
  UNIQUE KEY sessions_hash (hash),
  UNIQUE KEY sessions_former (former),
  KEY sessions_expiry (expires_at),
  CONSTRAINT sessions_account FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- One-time links: to set a first password, or a new one.
CREATE TABLE links (
  hash       BINARY(32) NOT NULL PRIMARY KEY,
  account_id BIGINT UNSIGNED NOT NULL,
  expires_at DATETIME(3) NOT NULL,
  CONSTRAINT links_account FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

CREATE TABLE members (
  estate_id  BIGINT UNSIGNED NOT NULL,
  account_id BIGINT UNSIGNED NOT NULL,
  role       VARCHAR(10) NOT NULL,
  PRIMARY KEY (estate_id, account_id),
  KEY members_account (account_id),
  CONSTRAINT members_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE,
  CONSTRAINT members_account FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- An API token does what its account may, up to its role, in its estate if it names one.
CREATE TABLE tokens (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  account_id BIGINT UNSIGNED NOT NULL,
  name       VARCHAR(100) NOT NULL,
  hash       BINARY(32) NOT NULL,
  role       VARCHAR(10) NOT NULL,
  estate_id  BIGINT UNSIGNED NULL,
  created_at DATETIME(3) NOT NULL,
  expires_at DATETIME(3) NOT NULL,
  used_at    DATETIME(3) NULL,
  UNIQUE KEY tokens_hash (hash),
  CONSTRAINT tokens_account FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE,
  CONSTRAINT tokens_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Failed sign-ins, by who was meant and from where.
CREATE TABLE failures (
  `key`  BINARY(32) NOT NULL PRIMARY KEY,
  count  INT UNSIGNED NOT NULL,
  at     DATETIME(3) NOT NULL,
  KEY failures_at (at)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- No foreign keys: what was done stays, whatever becomes of whom and what.
CREATE TABLE audit (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  at         DATETIME(3) NOT NULL,
  account_id BIGINT UNSIGNED NOT NULL DEFAULT 0,
  who        VARCHAR(200) NOT NULL,
  origin     VARCHAR(100) NOT NULL,
  request    VARCHAR(64) NOT NULL,
  action     VARCHAR(40) NOT NULL,
  estate_id  BIGINT UNSIGNED NOT NULL DEFAULT 0,
  draft      VARCHAR(40) NOT NULL DEFAULT '',
  object     VARCHAR(255) NOT NULL DEFAULT '',
  before_it  LONGTEXT NULL,
  after_it   LONGTEXT NULL,
  KEY audit_estate (estate_id, id)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- +goose StatementBegin
CREATE TRIGGER audit_is_not_changed BEFORE UPDATE ON audit FOR EACH ROW
  SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'the audit is only added to';
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER audit_is_not_deleted BEFORE DELETE ON audit FOR EACH ROW
  SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'the audit is only added to';
-- +goose StatementEnd

-- +goose Down
DROP TABLE audit;
DROP TABLE failures;
DROP TABLE tokens;
DROP TABLE members;
DROP TABLE links;
DROP TABLE sessions;
DROP TABLE accounts;
