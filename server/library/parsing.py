"""The child process's part of an import: nothing but the core, so that a start is quick."""

import resource
from multiprocessing.connection import Connection

from leancurve.errors import BadInput
from leancurve.formats.files import read_take
from leancurve.numbers.kernels.text import scan_numbers


def parse(data: bytes, name: str, memory: int, seconds: int, answer: Connection) -> None:
    """Read a take under limits and send it, or what is wrong with it, through ``answer``."""
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds))
    try:
        answer.send(read_take(data, name))
    except BadInput as trouble:
        answer.send((trouble.message, trouble.file, trouble.line))
    except MemoryError:
        answer.send(("the file needs more memory than a take may use", name, None))


# Imported once by the process that children are forked from: the kernel is loaded for all.
scan_numbers(b"0 0.25 0.12345678901234567")
