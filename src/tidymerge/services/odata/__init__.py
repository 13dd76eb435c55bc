"""Lists and tables behind OData 4.0 and 4.01 (ISO/IEC 20802)."""
