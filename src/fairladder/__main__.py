"""``python -m fairladder``: the command line."""

from fairladder.cli.app import main

if __name__ == "__main__":
    main()
