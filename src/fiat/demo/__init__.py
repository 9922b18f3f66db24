"""The sample host: skerry, a lighthouse and tide-gauge station."""
