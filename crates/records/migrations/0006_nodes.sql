-- The nodes that use these records: the processes of one data directory each.
CREATE TABLE IF NOT EXISTS nodes (
    id BINARY(16) NOT NULL PRIMARY KEY,
    http VARCHAR(300) NOT NULL COMMENT 'where clients reach it; empty when it cannot tell',
    wire VARCHAR(300) NOT NULL,
    version VARCHAR(50) NOT NULL,
    joined_at BIGINT UNSIGNED NOT NULL
) ENGINE = InnoDB;

-- Who owns which share of the keys. There is one share, number 0, of all keys.
CREATE TABLE IF NOT EXISTS shares (
    id TINYINT UNSIGNED NOT NULL PRIMARY KEY,
    owner BINARY(16) NULL COMMENT 'the latest; NULL when it has given the share back',
    epoch INT UNSIGNED NOT NULL COMMENT 'of the owner: the upper part of its fencing tokens',
    confirmations BIGINT UNSIGNED NOT NULL COMMENT 'counts the signs of life that the owner gives a standby'
) ENGINE = InnoDB;
INSERT IGNORE INTO shares (id, owner, epoch, confirmations) VALUES (0, NULL, 0, 0);

-- Row 2 counts the changes of nodes and owners.
INSERT IGNORE INTO revisions (id, number) VALUES (2, 0);
