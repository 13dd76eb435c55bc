"""A stand-in for a hosted list service: OData 4.01 (ISO/IEC 20802) over a SQLite file, on loopback only."""
