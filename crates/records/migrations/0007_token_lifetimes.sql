-- When tokens end by themselves, and when they were last used.
ALTER TABLE tokens
    ADD COLUMN IF NOT EXISTS expires_at BIGINT UNSIGNED NULL COMMENT 'milliseconds since 1970-01-01 UTC',
    ADD COLUMN IF NOT EXISTS last_used_at BIGINT UNSIGNED NULL COMMENT 'milliseconds since 1970-01-01 UTC';
