CREATE TABLE IF NOT EXISTS tenants (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(63) CHARACTER SET ascii COLLATE ascii_bin NOT NULL UNIQUE,
    created_at BIGINT UNSIGNED NOT NULL COMMENT 'milliseconds since 1970-01-01 UTC'
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS origins (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    tenant_id BIGINT UNSIGNED NOT NULL,
    name VARCHAR(63) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    url VARCHAR(2000) CHARACTER SET utf8mb4 NOT NULL,
    connect_timeout_ms BIGINT UNSIGNED NOT NULL,
    total_timeout_ms BIGINT UNSIGNED NOT NULL,
    max_response_bytes BIGINT UNSIGNED NOT NULL,
    created_at BIGINT UNSIGNED NOT NULL,
    UNIQUE KEY origin_name (tenant_id, name),
    CONSTRAINT origin_tenant FOREIGN KEY (tenant_id) REFERENCES tenants (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS namespaces (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    tenant_id BIGINT UNSIGNED NOT NULL,
    name VARCHAR(63) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    max_age_ms BIGINT UNSIGNED NOT NULL,
    stale_while_revalidate_ms BIGINT UNSIGNED NOT NULL,
    stale_if_error_ms BIGINT UNSIGNED NOT NULL,
    max_value_bytes BIGINT UNSIGNED NOT NULL,
    origin_id BIGINT UNSIGNED NULL,
    key_pattern VARCHAR(1000) CHARACTER SET utf8mb4 NULL,
    created_at BIGINT UNSIGNED NOT NULL,
    UNIQUE KEY namespace_name (tenant_id, name),
    CONSTRAINT namespace_tenant FOREIGN KEY (tenant_id) REFERENCES tenants (id),
    CONSTRAINT namespace_origin FOREIGN KEY (origin_id) REFERENCES origins (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS tokens (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    hash BINARY(32) NOT NULL UNIQUE COMMENT 'SHA-256 of the token; the token itself is kept nowhere',
    scopes VARCHAR(2000) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    note VARCHAR(200) CHARACTER SET utf8mb4 NOT NULL,
    created_at BIGINT UNSIGNED NOT NULL,
    revoked_at BIGINT UNSIGNED NULL
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS activity (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    at BIGINT UNSIGNED NOT NULL,
    actor VARCHAR(250) CHARACTER SET utf8mb4 NOT NULL,
    tenant VARCHAR(63) CHARACTER SET ascii COLLATE ascii_bin NULL,
    action VARCHAR(63) CHARACTER SET ascii NOT NULL,
    subject VARCHAR(1200) CHARACTER SET utf8mb4 NOT NULL,
    detail TEXT CHARACTER SET utf8mb4 NOT NULL COMMENT 'JSON',
    KEY activity_tenant (tenant, id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS runs (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    kind VARCHAR(10) CHARACTER SET ascii NOT NULL COMMENT 'warm or load',
    tenant VARCHAR(63) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    namespace VARCHAR(63) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    title VARCHAR(200) CHARACTER SET utf8mb4 NOT NULL,
    started_at BIGINT UNSIGNED NOT NULL,
    ended_at BIGINT UNSIGNED NULL,
    state VARCHAR(12) CHARACTER SET ascii NOT NULL COMMENT 'running, done, failed, stopped or interrupted',
    result MEDIUMTEXT CHARACTER SET utf8mb4 NOT NULL COMMENT 'JSON',
    KEY runs_kind (kind, id)
) ENGINE = InnoDB;
