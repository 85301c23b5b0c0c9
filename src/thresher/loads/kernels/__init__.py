"""Kernels compiled with numba for what NumPy cannot do at the machine's own speed.

The compiler runs on the machine under test, so nothing here is used before it has given known answers
(`thresher.loads.warm_up`); every load has a form in NumPy without it.

What numba reads from the environment is set here, before numba is loaded anywhere.
"""

import logging
import os
import shutil
from pathlib import Path
from tempfile import gettempdir

from llvmlite import binding
from platformdirs import user_cache_path

from thresher.model.errors import EnvironmentFault
from thresher.model.private_folder import private_folder

_LOG = logging.getLogger(__name__)


def _set_up() -> None:
    # the cache holds code: it is read only from a folder of this user alone, also when root runs with another's home
    os.environ.pop("NUMBA_CACHE_DIR", None)  # another's folder is not ours to fill or to empty
    for folder in (
        user_cache_path("thresher") / "kernels",
        Path(gettempdir()) / f"thresher-{os.geteuid()}" / "kernels",
    ):
        try:
            private_folder(folder.parent)
            os.environ["NUMBA_CACHE_DIR"] = str(private_folder(folder))
            break
        except EnvironmentFault as error:
            _LOG.warning("compiled loads are not kept there: %s", error)
    features = binding.get_host_cpu_features()
    if features.get("avx512f"):
        # the compiler prefers half the width on these processors; the load is to use what is there
        os.environ.setdefault("NUMBA_CPU_NAME", binding.get_host_cpu_name())
        os.environ.setdefault("NUMBA_CPU_FEATURES", features.flatten() + ",-prefer-256-bit")


def remove_compiled() -> None:
    """Remove everything compiled earlier, so that it is compiled anew."""
    kept = os.environ.get("NUMBA_CACHE_DIR")
    if kept is not None:
        shutil.rmtree(kept, ignore_errors=True)
        private_folder(Path(kept))


_set_up()
