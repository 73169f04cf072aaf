"""Results for other programs: JSON, metrics, a report."""
