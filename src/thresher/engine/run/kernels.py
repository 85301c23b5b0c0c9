"""The compiled kernels of the loads: compiled ahead by a process of its own, used only after known answers."""

import os
import signal
import subprocess

import msgspec

from thresher.engine.run.record import Record
from thresher.loads.warm_up import WarmUp
from thresher.model.findings import Severity
from thresher.model.own_program import own_command

_READ = 1 << 14


class Kernels:
    """Follows the process that compiles; never waits for it."""

    def __init__(self) -> None:
        """Start compiling, or find that all is compiled."""
        self._state = WarmUp(0)
        self._buffer = b""
        self._failed_first = ""
        self._process: subprocess.Popen[bytes] | None = _start()

    def poll(self) -> WarmUp:
        """Process what the process has said and return where it is."""
        process = self._process
        if process is None:
            return self._state
        assert process.stdout is not None
        ended = process.poll()
        while chunk := process.stdout.read(_READ):
            self._buffer += chunk
        *lines, self._buffer = self._buffer.split(b"\n")
        for line in lines:
            self._state = msgspec.json.decode(line, type=WarmUp)
        if ended is not None:
            self._on_end(process, ended)
        if self._process is not None and self._state.usable is False:
            return WarmUp(self._state.done)  # it may get a second try
        return self._state

    def _on_end(self, process: "subprocess.Popen[bytes]", code: int) -> None:
        assert process.stderr is not None
        if self._state.usable is None:
            last = process.stderr.read().decode("utf-8", "replace").strip().splitlines()
            how = f"signal {signal.Signals(-code).name}" if code < 0 else f"code {code}"
            reason = last[-1] if last else f"the compiler ended with {how}"
            self._state = WarmUp(self._state.done, usable=False, detail=reason)
        self._forget()
        if not self._state.usable and not self._failed_first:
            # what was compiled earlier may be damaged on the disk; a second failure is none of that
            self._failed_first = self._state.detail
            self._state, self._buffer = WarmUp(0), b""
            self._process = _start("--anew")

    @property
    def failed_first(self) -> str:
        """Why everything had to be compiled anew, empty if it had not."""
        return self._failed_first

    def _forget(self) -> None:
        if self._process is not None:
            for pipe in (self._process.stdout, self._process.stderr):
                if pipe is not None:
                    pipe.close()
        self._process = None

    def close(self) -> None:
        """End the process if it still runs."""
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            self._forget()


def _start(*arguments: str) -> "subprocess.Popen[bytes]":
    # one thread, as in the workers: known answers are checked under the same conditions
    environment = os.environ | {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
    process = subprocess.Popen(
        [*own_command("thresher.loads.warm_up"), *arguments],
        stdout=subprocess.PIPE,
        stdin=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        env=environment,
    )
    assert process.stdout is not None
    os.set_blocking(process.stdout.fileno(), False)
    return process


def kernels_sentence(state: WarmUp) -> str:
    """Say which form the loads have."""
    if state.usable is None:
        return f"compiling loads, {state.done} of {state.total}"
    if state.usable:
        return f"loads compiled, {state.vector_bits}-bit vectors"
    return f"loads in NumPy: {state.detail}"


class KernelReport:
    """Follows the kernels of an engine and writes on the tape which form the loads have, once that is known."""

    def __init__(self, record: Record, kernels: Kernels | None) -> None:
        """`kernels` is None for machines whose loads need no compiler."""
        self._record = record
        self._kernels = kernels
        self._reported = False

    def state(self) -> WarmUp:
        """Return how far the kernels are."""
        return self._kernels.poll() if self._kernels is not None else WarmUp(0, usable=False, detail="simulated")

    def sentence(self) -> str:
        """Say which form the loads have, empty where that does not matter."""
        return kernels_sentence(self._kernels.poll()) if self._kernels is not None else ""

    def follow(self) -> None:
        """Report the form of the loads, once."""
        if self._kernels is None or self._reported:
            return
        state = self._kernels.poll()
        if state.usable is None:
            return
        self._reported = True
        sentence = kernels_sentence(state)
        if state.usable:
            self._record.note("Loads are ready", f"{sentence}; known answers verified in {state.seconds:.1f} s")
            if self._kernels.failed_first:
                detail = f"what had been compiled earlier failed: {self._kernels.failed_first}"
                self._record.note("Loads were compiled anew", detail, Severity.WARNING, "X-870")
        else:
            self._record.note("Compiled loads are not used", sentence, Severity.WARNING, "X-870")

    def close(self) -> None:
        """Stop compiling."""
        if self._kernels is not None:
            self._kernels.close()
