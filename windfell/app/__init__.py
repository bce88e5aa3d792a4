"""The window. It only sends edits and shows what the engine answers."""
