"""`python -m young_prism` is the command."""

from young_prism.cli.main import main

if __name__ == "__main__":
    main(prog_name="young-prism")
