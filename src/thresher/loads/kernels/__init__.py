"""Kernels compiled with numba for what NumPy cannot do at the machine's own speed.

The compiler runs on the machine under test, so nothing here is used before it has given known answers
(`thresher.loads.warm_up`); every load has a form in NumPy without it.

What numba reads from the environment is set here, before numba is loaded anywhere.
"""

import os

from llvmlite import binding
from platformdirs import user_cache_path


def _set_up() -> None:
    folder = user_cache_path("thresher") / "kernels"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        writable = os.access(folder, os.W_OK)
    except OSError:
        writable = False
    # without a place for it numba keeps its cache beside the source, or compiles again each time
    if writable:
        os.environ.setdefault("NUMBA_CACHE_DIR", str(folder))
    features = binding.get_host_cpu_features()
    if features.get("avx512f"):
        # the compiler prefers half the width on these processors; the load is to use what is there
        os.environ.setdefault("NUMBA_CPU_NAME", binding.get_host_cpu_name())
        os.environ.setdefault("NUMBA_CPU_FEATURES", features.flatten() + ",-prefer-256-bit")


_set_up()
