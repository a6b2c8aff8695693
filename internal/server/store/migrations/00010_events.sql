-- +goose Up
-- What was not as designed, and was again: one event for one cause. A trouble that lasts has its
-- key in troubles; data is JSON of what was said of it when it began.
CREATE TABLE events (
  id        BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  estate_id BIGINT UNSIGNED NOT NULL,
  at        DATETIME(3) NOT NULL,
  kind      VARCHAR(16) NOT NULL,
  code      VARCHAR(32) NOT NULL,
  sure      VARCHAR(16) NOT NULL,
  words     VARCHAR(500) NOT NULL,
  site      VARCHAR(48) NOT NULL DEFAULT '',
  link      VARCHAR(48) NOT NULL DEFAULT '',
  part      VARCHAR(200) NOT NULL DEFAULT '',
  tunnels   INT NOT NULL DEFAULT 0,
  cut       INT NOT NULL DEFAULT 0,
  lasted    INT NOT NULL DEFAULT 0,
  release_no BIGINT UNSIGNED NOT NULL DEFAULT 0,
  quiet     TINYINT UNSIGNED NOT NULL DEFAULT 0,
  KEY events_list (estate_id, id),
  KEY events_age (at),
  CONSTRAINT events_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

CREATE TABLE troubles (
  estate_id BIGINT UNSIGNED NOT NULL,
  name      VARCHAR(400) NOT NULL,
  event_id  BIGINT UNSIGNED NOT NULL,
  since     DATETIME(3) NOT NULL,
  data      MEDIUMTEXT NOT NULL CHECK (JSON_VALID(data)),
  quiet     TINYINT UNSIGNED NOT NULL DEFAULT 0,
  PRIMARY KEY (estate_id, name),
  CONSTRAINT troubles_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Which server looks after an estate's events.
CREATE TABLE event_leases (
  estate_id   BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  server      VARCHAR(60) NOT NULL DEFAULT '',
  lease_until DATETIME(3) NOT NULL DEFAULT '2000-01-01 00:00:00.000',
  CONSTRAINT event_leases_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Windows of maintenance, of a site or of all: what begins in one is told nobody, unless it lasts
-- longer. Every is how often one comes again.
CREATE TABLE windows (
  id        BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  estate_id BIGINT UNSIGNED NOT NULL,
  site      VARCHAR(48) NOT NULL DEFAULT '',
  begins_at DATETIME(3) NOT NULL,
  minutes   INT NOT NULL,
  every     VARCHAR(8) NOT NULL DEFAULT '',
  words     VARCHAR(200) NOT NULL DEFAULT '',
  author    VARCHAR(200) NOT NULL,
  made_at   DATETIME(3) NOT NULL,
  KEY windows_estate (estate_id),
  CONSTRAINT windows_of FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Who is told of events: a webhook or a mailbox. The secret signs what a webhook is sent.
CREATE TABLE listeners (
  id        BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  estate_id BIGINT UNSIGNED NOT NULL,
  kind      VARCHAR(16) NOT NULL,
  target    VARCHAR(500) NOT NULL,
  cut_only  TINYINT UNSIGNED NOT NULL DEFAULT 0,
  from_time VARCHAR(5) NOT NULL DEFAULT '',
  to_time   VARCHAR(5) NOT NULL DEFAULT '',
  sealed    VARBINARY(200) NULL,
  author    VARCHAR(200) NOT NULL,
  made_at   DATETIME(3) NOT NULL,
  KEY listeners_estate (estate_id),
  CONSTRAINT listeners_of FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- What is to be told. It is tried again until it is taken or too old.
CREATE TABLE messages (
  id          BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  listener_id BIGINT UNSIGNED NOT NULL,
  event_id    BIGINT UNSIGNED NOT NULL,
  due_at      DATETIME(3) NOT NULL,
  tries       INT NOT NULL DEFAULT 0,
  sent_at     DATETIME(3) NULL,
  words       VARCHAR(300) NOT NULL DEFAULT '',
  UNIQUE KEY messages_once (listener_id, event_id),
  KEY messages_due (sent_at, due_at),
  CONSTRAINT messages_listener FOREIGN KEY (listener_id) REFERENCES listeners (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- +goose Down
DROP TABLE windows;
DROP TABLE messages;
DROP TABLE listeners;
DROP TABLE event_leases;
DROP TABLE troubles;
DROP TABLE events;
