"""Capture corrections: what is put right in each frame before frames meet."""
