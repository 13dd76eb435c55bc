"""Workbooks: XLSX and ODS."""
