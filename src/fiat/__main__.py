"""``python -m fiat``."""

from fiat.cli.main import run

if __name__ == "__main__":
    run()
