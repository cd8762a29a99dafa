"""Says what is missing on a machine before anything is installed. Runs on any Python 3."""

import importlib.util
import re
import shutil
import subprocess
import sys


def problems():
    if sys.version_info < (3, 11):
        yield "Python 3.11 or newer is needed; this is %d.%d. Try: make PYTHON=python3.11" % sys.version_info[:2]
    if importlib.util.find_spec("ensurepip") is None:
        yield "Python's venv cannot be used; on Debian: apt-get install python3-venv"
    node = shutil.which("node")
    if node is None or shutil.which("npm") is None:
        yield "Node.js 20 or newer, with npm, is needed to build the console"
    else:
        said = subprocess.run([node, "--version"], capture_output=True, text=True, check=False).stdout
        major = re.match(r"v(\d+)", said)
        if not major or int(major.group(1)) < 20:
            yield "Node.js 20 or newer is needed; this is %s" % said.strip()


found = list(problems())
for problem in found:
    print(problem, file=sys.stderr)
sys.exit(1 if found else 0)
