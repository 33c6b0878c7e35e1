"""The one place that knows SQL: tables, migrations, the writer, repositories, and the agent's spool."""
