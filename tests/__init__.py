"""All tests. Time limits of single examples are off: the machine may be busy with something else."""

import os

from hypothesis import HealthCheck, settings

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # as `pivrex` itself does
settings.register_profile("pivrex", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("pivrex")

from pivrex.kernels.engines import wait_for_it  # noqa: E402

wait_for_it()  # whatever computes is the same from the first test to the last
