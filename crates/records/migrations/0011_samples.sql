-- What a load run measured, second by second: apart from its result, which is written anew each
-- second.
CREATE TABLE IF NOT EXISTS run_samples (
    run_id BIGINT UNSIGNED NOT NULL,
    number INT UNSIGNED NOT NULL,
    content TEXT CHARACTER SET utf8mb4 NOT NULL COMMENT 'JSON',
    PRIMARY KEY (run_id, number)
) ENGINE = InnoDB;
