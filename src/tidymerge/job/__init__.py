"""The job: everything but the incoming rows."""
