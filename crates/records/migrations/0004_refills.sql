-- Negative results, early refresh and writing through.
ALTER TABLE namespaces
    ADD COLUMN IF NOT EXISTS negative_max_age_ms BIGINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN IF NOT EXISTS early_refresh_percent SMALLINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN IF NOT EXISTS write_through BOOLEAN NOT NULL DEFAULT FALSE;

-- Origins on several servers, origins that are queries, and what keeps an origin from being asked too
-- much.
ALTER TABLE origins
    ADD COLUMN IF NOT EXISTS query MEDIUMTEXT CHARACTER SET utf8mb4 NULL COMMENT 'an HTTP service when null',
    ADD COLUMN IF NOT EXISTS credential VARCHAR(63) CHARACTER SET ascii COLLATE ascii_bin NULL COMMENT 'the name of a secret that is kept elsewhere',
    ADD COLUMN IF NOT EXISTS settings TEXT CHARACTER SET utf8mb4 NOT NULL DEFAULT '{}' COMMENT 'JSON; what is left out is as usual';
