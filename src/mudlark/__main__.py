"""`python -m mudlark`."""

from mudlark.cli.main import run

if __name__ == "__main__":
    run()
