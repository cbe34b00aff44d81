"""The strain test: photos distorted step by step, scored again, and what becomes of the figures."""
