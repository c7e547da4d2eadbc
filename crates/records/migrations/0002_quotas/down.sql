ALTER TABLE namespaces DROP COLUMN jitter_percent, DROP COLUMN reserve_bytes, DROP COLUMN cap_bytes;
