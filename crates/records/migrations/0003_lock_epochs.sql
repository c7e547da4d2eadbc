-- The upper part of fencing tokens: each start of the service takes a new row, whose id is larger than
-- all before it, also after rows were deleted.
CREATE TABLE IF NOT EXISTS lock_epochs (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    begun_at BIGINT UNSIGNED NOT NULL COMMENT 'milliseconds since 1970-01-01 UTC'
) ENGINE = InnoDB;
