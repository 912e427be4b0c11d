"""The scenario: channel marks seen from a survey boat, with its data, its model and its script."""
