"""Steps on a cluster: Spark's executors read, collapse and write; this process plans, and makes the one commit."""
