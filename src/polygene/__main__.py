"""``python -m polygene``."""

from polygene.cli.main import program

if __name__ == "__main__":
    program()
