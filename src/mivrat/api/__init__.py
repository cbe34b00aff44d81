"""What Python programs and notebooks use: a small face over the core, offered under the name ``mivrat`` itself."""
