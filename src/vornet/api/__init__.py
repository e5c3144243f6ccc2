"""JSON over HTTP, by the same flows as the pages and the command line."""
