"""The register: files in and out, units, oils, templates, many at once."""
