"""Proof: what differs between treatments, blind checks and what they show, likeness."""
