"""The Check step: can what goes in be trusted."""
