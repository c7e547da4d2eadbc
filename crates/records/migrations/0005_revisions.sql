-- How many changes were made to what is served. Each change raises it by one within its transaction.
CREATE TABLE IF NOT EXISTS revisions (
    id TINYINT UNSIGNED NOT NULL PRIMARY KEY,
    number BIGINT UNSIGNED NOT NULL
) ENGINE = InnoDB;
INSERT IGNORE INTO revisions (id, number) VALUES (1, 0);

-- Activity and runs belong to a tenant's identity: one made again under an old name is another.
ALTER TABLE activity
    ADD COLUMN IF NOT EXISTS tenant_id BIGINT UNSIGNED NULL,
    ADD COLUMN IF NOT EXISTS change_id BINARY(16) NULL COMMENT 'random, to find the outcome of a change by',
    ADD KEY IF NOT EXISTS activity_tenant_id (tenant_id, id),
    ADD UNIQUE KEY IF NOT EXISTS activity_change (change_id);
ALTER TABLE runs
    ADD COLUMN IF NOT EXISTS tenant_id BIGINT UNSIGNED NULL,
    ADD KEY IF NOT EXISTS runs_state (state);
UPDATE activity JOIN tenants ON tenants.name = activity.tenant
    SET activity.tenant_id = tenants.id WHERE activity.tenant_id IS NULL;
UPDATE runs JOIN tenants ON tenants.name = runs.tenant
    SET runs.tenant_id = tenants.id WHERE runs.tenant_id IS NULL;
