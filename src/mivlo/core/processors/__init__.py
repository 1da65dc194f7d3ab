"""What acts on samples, block by block, with state: one file for each way of acting; moves say which they need."""
