"""What is measured, against what: `python -m benchmarks` (or `make bench`)."""
