-- The ferry network: what the slow reads of the demo are made over.
CREATE TABLE harbors (
    id SMALLINT UNSIGNED NOT NULL PRIMARY KEY,
    slug VARCHAR(40) NOT NULL UNIQUE,
    name VARCHAR(60) NOT NULL
);
CREATE TABLE ferry_lines (
    id SMALLINT UNSIGNED NOT NULL PRIMARY KEY,
    code CHAR(3) NOT NULL UNIQUE,
    name VARCHAR(60) NOT NULL
);
CREATE TABLE vessels (
    id SMALLINT UNSIGNED NOT NULL PRIMARY KEY,
    name VARCHAR(60) NOT NULL,
    places SMALLINT UNSIGNED NOT NULL
);
CREATE TABLE sailings (
    id INT UNSIGNED NOT NULL PRIMARY KEY,
    line_id SMALLINT UNSIGNED NOT NULL,
    vessel_id SMALLINT UNSIGNED NOT NULL,
    from_harbor SMALLINT UNSIGNED NOT NULL,
    to_harbor SMALLINT UNSIGNED NOT NULL,
    departs_at DATETIME NOT NULL,
    delay_minutes SMALLINT NOT NULL,
    passengers SMALLINT UNSIGNED NOT NULL,
    KEY sailings_departure (from_harbor, departs_at),
    KEY sailings_history (departs_at, line_id, delay_minutes)
);
CREATE TABLE gauges (
    id SMALLINT UNSIGNED NOT NULL PRIMARY KEY,
    slug VARCHAR(40) NOT NULL UNIQUE,
    harbor_id SMALLINT UNSIGNED NOT NULL
);
CREATE TABLE readings (
    gauge_id SMALLINT UNSIGNED NOT NULL,
    read_at DATETIME NOT NULL,
    level_cm SMALLINT NOT NULL,
    PRIMARY KEY (gauge_id, read_at)
);
CREATE TABLE berths (
    id SMALLINT UNSIGNED NOT NULL PRIMARY KEY,
    harbor_id SMALLINT UNSIGNED NOT NULL,
    number TINYINT UNSIGNED NOT NULL,
    metres SMALLINT UNSIGNED NOT NULL
);
CREATE TABLE notices (
    harbor VARCHAR(40) NOT NULL PRIMARY KEY,
    notice VARCHAR(500) NOT NULL
);
CREATE TABLE loaded (
    seed BIGINT UNSIGNED NOT NULL,
    first_day DATE NOT NULL,
    last_day DATE NOT NULL,
    edition INT UNSIGNED NOT NULL
);
