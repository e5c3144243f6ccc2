"""What a page, or its twin in JSON, reads."""
