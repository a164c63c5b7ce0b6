"""The store: tables, migrations, backups, packages."""
