DROP TABLE lock_epochs;
