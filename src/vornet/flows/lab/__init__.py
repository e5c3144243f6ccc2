"""The lab: bottles, parcels, files, results and what is held."""
