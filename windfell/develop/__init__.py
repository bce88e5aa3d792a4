"""Development: lens correction, white balance, tone, detail, and matching frames to each other."""
