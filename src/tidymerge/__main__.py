"""`python -m tidymerge`: the program, where its command is not on the path."""

from tidymerge.cli.app import main

if __name__ == "__main__":
    main()
