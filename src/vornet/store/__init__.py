"""PostgreSQL: migrations, queries by name, thin functions over them, and the private server."""
