"""Many units: the batch, its scheduler, claims in the register, recording."""
