"""What is painted: strokes that masks, repairs and painted light share."""
