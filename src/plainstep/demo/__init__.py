"""The town of Larkmoor: made-up data, and a walk through the whole job."""
