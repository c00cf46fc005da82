"""A table of numbers as a columnar file (Apache Parquet): the same columns as its CSV, each with its unit beside it."""

from __future__ import annotations

from pathlib import Path

from common_bench.exchange.data_package import field_of, holds_words

PARQUET = ".parquet"


def keep_parquet(table: Path) -> Path:
    """Writes a CSV of numbers that is there once more, beside it; gives where. What is empty is null. Raises OSError."""
    import pyarrow as pa  # which takes its time to load
    from pyarrow import csv, parquet

    read = csv.read_csv(table, convert_options=csv.ConvertOptions(null_values=[""], strings_can_be_null=True))
    fields = []
    for field in read.schema:
        told = field_of(field.name, "number")
        about = {key: str(told[key]) for key in ("unit", "uncertaintyOf") if key in told}
        words = pa.types.is_string(field.type) or (pa.types.is_null(field.type) and holds_words(field.name))
        kept = field.with_type(pa.string() if words else pa.float64())
        fields.append(kept.with_metadata(about))
    path = table.with_suffix(PARQUET)
    parquet.write_table(read.cast(pa.schema(fields)), path, compression="zstd")
    return path
