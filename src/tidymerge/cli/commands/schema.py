"""`tidymerge schema`: the definition of a job file, for editors."""


def schema() -> None:
    """Print the JSON Schema of job files, so that an editor completes and checks them."""
    from tidymerge.cli.screen import output
    from tidymerge.job.schema import json_schema

    output.print_json(json_schema())
