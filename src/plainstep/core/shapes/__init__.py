"""Shapes: what changes become downstream, said in the five kinds of edits that every target knows."""
