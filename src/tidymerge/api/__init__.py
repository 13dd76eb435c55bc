"""What a Python program calls: one module a subject. All is imported when it is asked for."""
