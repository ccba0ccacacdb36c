"""`python -m mudlark`."""

from mudlark.start import start

if __name__ == "__main__":
    start()
