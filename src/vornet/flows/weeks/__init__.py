"""The weeks: what falls due as visits on days, at which depot, with what; proposed, accepted, moved, told and looked back on."""
