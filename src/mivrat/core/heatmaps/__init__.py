"""From a layer or from answers to a map, and whether such maps can be relied on."""
