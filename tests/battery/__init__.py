"""Large runs, by `make battery`: not a part of `make test`, which has a small share of each."""
