"""`python -m barnacle` is the command `barnacle`."""

from barnacle.cli.start import run

if __name__ == "__main__":
    run()
