"""What the headless commands do; the command line itself is in ``mivrat.cli``."""
