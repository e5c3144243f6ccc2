"""What people do, one module per step of the work."""
