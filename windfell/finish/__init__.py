"""The finish: adjustments of the joined or stacked picture, on linear light with what is brighter than white."""
