DROP TABLE runs;
DROP TABLE activity;
DROP TABLE tokens;
DROP TABLE namespaces;
DROP TABLE origins;
DROP TABLE tenants;
