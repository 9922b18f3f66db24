"""Routes, surveys of trees, and answers for trees."""
