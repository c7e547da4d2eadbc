-- Usage over time, in steps of falling resolution; each process writes rows of its own.
-- And an activity that only grows.
CREATE TABLE IF NOT EXISTS usage_samples (
    step_seconds INT UNSIGNED NOT NULL,
    namespace_id BIGINT UNSIGNED NOT NULL,
    at BIGINT UNSIGNED NOT NULL,
    writer BIGINT UNSIGNED NOT NULL,
    tenant_id BIGINT UNSIGNED NOT NULL,
    covered_ms BIGINT UNSIGNED NOT NULL,
    entries BIGINT UNSIGNED NOT NULL,
    bytes BIGINT UNSIGNED NOT NULL,
    read_count BIGINT UNSIGNED NOT NULL,
    hit_count BIGINT UNSIGNED NOT NULL,
    received_bytes BIGINT UNSIGNED NOT NULL,
    sent_bytes BIGINT UNSIGNED NOT NULL,
    origin_reads BIGINT UNSIGNED NOT NULL,
    origin_saved_ms BIGINT UNSIGNED NOT NULL,
    evictions BIGINT UNSIGNED NOT NULL,
    expirations BIGINT UNSIGNED NOT NULL,
    refusals BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (step_seconds, namespace_id, at, writer),
    KEY usage_of_tenant (step_seconds, tenant_id, at),
    KEY usage_by_time (step_seconds, at)
);
CREATE TRIGGER IF NOT EXISTS activity_is_not_changed BEFORE UPDATE ON activity FOR EACH ROW
    SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'activity is only added to';
CREATE TRIGGER IF NOT EXISTS activity_is_not_deleted BEFORE DELETE ON activity FOR EACH ROW
    SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'activity is only added to';
