"""The Measure step: headline, classes, confusions and confidence."""
