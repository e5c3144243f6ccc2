"""The house: fleets, people, who may do what, meters."""
