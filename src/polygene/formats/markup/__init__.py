"""What formats in XML share: documents read safely, texts to typed columns, texts to positions."""
