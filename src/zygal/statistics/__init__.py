"""Statistics that several parts need: intervals of shares and of quantiles, medians, ratios."""
