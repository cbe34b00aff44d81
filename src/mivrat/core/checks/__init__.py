"""What is looked at before a figure is believed: files, labels, duplicates, answers, class order, recipe."""
