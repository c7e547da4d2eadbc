-- What a namespace is guaranteed and may never exceed, and the spread of lifetimes.
ALTER TABLE namespaces
    ADD COLUMN jitter_percent TINYINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN reserve_bytes BIGINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN cap_bytes BIGINT UNSIGNED NULL COMMENT 'no cap when null';
