"""What the user decided: frozen data, its file, and edits of it in words."""
