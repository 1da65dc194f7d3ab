"""Second-order sections: the analogue shapes, their digital designs, and their responses."""
