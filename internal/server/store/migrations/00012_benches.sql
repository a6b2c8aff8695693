-- +goose Up
-- What tunnels bore when they were loaded, one way each: from the gateway of a site towards its
-- peer. Data is JSON of the steps.
CREATE TABLE benches (
  id        BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  estate_id BIGINT UNSIGNED NOT NULL,
  at        DATETIME(3) NOT NULL,
  author    VARCHAR(200) NOT NULL,
  site      VARCHAR(48) NOT NULL,
  interface VARCHAR(16) NOT NULL,
  link      VARCHAR(48) NOT NULL,
  peer      VARCHAR(48) NOT NULL,
  peer_link VARCHAR(48) NOT NULL,
  kbps      INT NOT NULL,
  data      MEDIUMTEXT NOT NULL CHECK (JSON_VALID(data)),
  KEY benches_site (estate_id, site, id),
  KEY benches_peer (estate_id, peer, id),
  CONSTRAINT benches_of FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- +goose Down
DROP TABLE benches;
