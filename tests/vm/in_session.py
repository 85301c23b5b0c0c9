"""Runs a command while a polkit agent in a terminal of its own answers with a password, and prints what it was asked.

Usage, in the guest: python3 in_session.py PASSWORD COMMAND... The command begins once the agent has registered.
"""

import os
import pty
import select
import signal
import sys
import time


def main(password: str, command: list[str]) -> int:
    """Run the command with an agent for it, and return how it ended."""
    ready, begin = os.pipe()
    child = os.fork()
    if not child:
        os.close(begin)
        os.read(ready, 1)
        os.execvp(command[0], command)
    agent, terminal = pty.fork()
    if not agent:
        os.execvp("pkttyagent", ["pkttyagent", "--process", str(child)])
    time.sleep(5.0)
    os.close(begin)
    said, answered = b"", 0
    while True:
        pid, status = os.waitpid(child, os.WNOHANG)
        if pid:
            break
        if select.select([terminal], [], [], 0.2)[0]:
            try:
                said += os.read(terminal, 4096)
            except OSError:
                continue
        if said.count(b"assword:") > answered:
            answered += 1
            time.sleep(2.0)  # what is typed before the terminal stops its echo is thrown away
            os.write(terminal, password.encode() + b"\n")
    os.kill(agent, signal.SIGTERM)
    asked = said.decode("utf-8", "replace").replace(password, "(password)").strip()
    print(f"--- what was asked, {answered} times:\n{asked or '(nothing)'}\n---", flush=True)
    return os.waitstatus_to_exitcode(status)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], sys.argv[2:]))
