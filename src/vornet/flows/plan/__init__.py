"""The plan: service items, intervals and when they fall due."""
