"""Facts said as sentences, in the reader's language and units."""
