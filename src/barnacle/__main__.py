"""`python -m barnacle` is the command `barnacle`."""

from barnacle.cli.main import run

if __name__ == "__main__":
    run()
