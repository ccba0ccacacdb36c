"""The one place that runs the steps of a haul in order."""
