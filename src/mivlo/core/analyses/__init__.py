"""Analyses: each kind is one file, named once in `registry.py`; addresses, forms of questions and answers, keys and
background work follow from that."""
