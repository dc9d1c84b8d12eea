"""``python -m polygene``."""

from polygene.cli.begin import program

if __name__ == "__main__":
    program()
