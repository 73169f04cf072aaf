"""Tests, few and strong: on the public interface, the command line and the examples."""

from hypothesis import HealthCheck, settings

# A busy machine is not a reason to fail: what is slow shows in the list of times at the end.
settings.register_profile("here", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("here")
