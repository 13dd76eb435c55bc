"""Parquet files and folders of them."""
