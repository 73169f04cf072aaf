"""How results look to people: words, numbers, rows and pages."""
