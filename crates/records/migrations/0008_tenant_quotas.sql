-- What a tenant may use with all of its namespaces together.
ALTER TABLE tenants
    ADD COLUMN IF NOT EXISTS quota TEXT CHARACTER SET utf8mb4 NOT NULL DEFAULT '{}' COMMENT 'JSON';

-- The newer parts of a policy are one column of JSON, in which what is left out is as usual: a new part
-- needs no new column. The four columns that it replaces are no longer read.
ALTER TABLE namespaces
    ADD COLUMN IF NOT EXISTS settings TEXT CHARACTER SET utf8mb4 NOT NULL DEFAULT '' COMMENT 'JSON';
UPDATE namespaces SET settings = CONCAT(
    '{"jitter_percent":', jitter_percent,
    ',"negative_max_age_ms":', negative_max_age_ms,
    ',"early_refresh_percent":', early_refresh_percent,
    ',"write_through":', IF(write_through, 'true', 'false'), '}')
    WHERE settings = '';
