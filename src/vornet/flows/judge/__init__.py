"""Judging: histories read, screened, judged and decided; verdicts, limits, findings."""
