"""What stores of versioned tables share: their versions as a source, and reading their data files."""
