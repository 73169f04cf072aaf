"""MariaDB and MySQL."""
