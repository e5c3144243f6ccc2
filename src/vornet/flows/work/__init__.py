"""The work: job cards, drains and what is noted in between."""
