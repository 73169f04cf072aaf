"""Delta tables: versioned tables of Parquet files, whose log says which files each version is made of."""
