"""What a command returns, as data: verdicts, evidence, outcomes, measurements, failures, and the JSON Schema of each."""
