"""The trade's rules and arithmetic: numbers in, numbers out.

Nothing in here reads a clock, a file, a database or a random number it was not handed.
"""
