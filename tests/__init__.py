"""All tests. Time limits of single examples are off: the machine may be busy with something else."""

from hypothesis import HealthCheck, settings

settings.register_profile("pivrex", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("pivrex")
