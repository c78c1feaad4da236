"""Which augmentation, how much, and did it help: conditions of pictures, matching a field, probing pipelines, comparing scores."""
