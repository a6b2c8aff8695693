-- +goose Up
-- What the pre-shared keys of an estate's tunnels follow from, sealed.
CREATE TABLE estate_secrets (
  estate_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  sealed    VARBINARY(255) NOT NULL,
  CONSTRAINT estate_secrets_estate FOREIGN KEY (estate_id) REFERENCES estates (id) ON DELETE CASCADE
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- +goose Down
DROP TABLE estate_secrets;
