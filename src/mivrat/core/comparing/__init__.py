"""Holding one run against another: the same images under two models, one model on two sets, training curves."""
