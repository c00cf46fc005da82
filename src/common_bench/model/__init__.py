"""The nouns as frozen value types; imports nothing of ours."""
