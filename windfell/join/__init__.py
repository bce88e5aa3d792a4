"""Join: light made equal, seams laid, frames blended into one picture."""
