ALTER TABLE namespaces
    DROP COLUMN negative_max_age_ms,
    DROP COLUMN early_refresh_percent,
    DROP COLUMN write_through;

ALTER TABLE origins
    DROP COLUMN query,
    DROP COLUMN credential,
    DROP COLUMN settings;
