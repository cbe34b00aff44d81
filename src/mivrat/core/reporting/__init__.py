"""Result files that other programs may rely on."""
