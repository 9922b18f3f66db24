"""Plans, their guards, applying them and putting back."""
