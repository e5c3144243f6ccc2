"""Engines, oils, technicians and a lab that do not exist: demo data and volume for benchmarks.

Shares no limits and no rules with core: it knows physics and habits, not what counts as too much.
"""
