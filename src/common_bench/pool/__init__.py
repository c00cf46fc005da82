"""The class dataset: class line, scatter, outliers, sealing."""
