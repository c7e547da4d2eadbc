-- What a namespace is guaranteed and may never exceed, and the spread of lifetimes.
ALTER TABLE namespaces
    ADD COLUMN IF NOT EXISTS jitter_percent TINYINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN IF NOT EXISTS reserve_bytes BIGINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN IF NOT EXISTS cap_bytes BIGINT UNSIGNED NULL COMMENT 'no cap when null';
