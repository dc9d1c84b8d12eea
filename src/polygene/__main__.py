"""``python -m polygene``."""

from polygene.cli.main import main

if __name__ == "__main__":
    main()
