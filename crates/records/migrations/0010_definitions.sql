-- What tenants define (warm plans, schedules), what a run needs to be resumed, its failures, and the
-- slots of schedules that were taken; and the hottest keys, for the next start.
CREATE TABLE IF NOT EXISTS definitions (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    kind VARCHAR(20) CHARACTER SET ascii NOT NULL COMMENT 'warm-plan or schedule',
    tenant_id BIGINT UNSIGNED NOT NULL,
    name VARCHAR(63) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    content MEDIUMTEXT CHARACTER SET utf8mb4 NOT NULL COMMENT 'JSON',
    created_at BIGINT UNSIGNED NOT NULL,
    changed_at BIGINT UNSIGNED NOT NULL,
    UNIQUE KEY definition_name (kind, tenant_id, name),
    CONSTRAINT definition_tenant FOREIGN KEY (tenant_id) REFERENCES tenants (id) ON DELETE CASCADE
) ENGINE = InnoDB;
CREATE TABLE IF NOT EXISTS run_work (
    run_id BIGINT UNSIGNED NOT NULL,
    part INT UNSIGNED NOT NULL,
    content MEDIUMBLOB NOT NULL,
    PRIMARY KEY (run_id, part)
) ENGINE = InnoDB;
CREATE TABLE IF NOT EXISTS run_failures (
    run_id BIGINT UNSIGNED NOT NULL,
    number INT UNSIGNED NOT NULL,
    failed_key TEXT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
    reason VARCHAR(500) CHARACTER SET utf8mb4 NOT NULL,
    PRIMARY KEY (run_id, number)
) ENGINE = InnoDB;
CREATE TABLE IF NOT EXISTS schedule_slots (
    schedule_id BIGINT UNSIGNED NOT NULL,
    slot BIGINT UNSIGNED NOT NULL,
    taken_at BIGINT UNSIGNED NOT NULL,
    state VARCHAR(12) CHARACTER SET ascii NOT NULL COMMENT 'taken, started, done, failed or missed',
    run_id BIGINT UNSIGNED NULL,
    by_hand BOOLEAN NOT NULL,
    note VARCHAR(500) CHARACTER SET utf8mb4 NOT NULL,
    PRIMARY KEY (schedule_id, slot),
    CONSTRAINT slot_schedule FOREIGN KEY (schedule_id) REFERENCES definitions (id) ON DELETE CASCADE
) ENGINE = InnoDB;
CREATE TABLE IF NOT EXISTS hot_keys (
    namespace_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
    noted_at BIGINT UNSIGNED NOT NULL,
    hottest MEDIUMTEXT CHARACTER SET utf8mb4 NOT NULL COMMENT 'JSON: keys, hottest first',
    CONSTRAINT hot_namespace FOREIGN KEY (namespace_id) REFERENCES namespaces (id) ON DELETE CASCADE
) ENGINE = InnoDB;
