"""The first start compiles every inner loop, so that nobody waits for one later."""

from __future__ import annotations

import importlib
import pkgutil

from numba.core.dispatcher import Dispatcher

import nivelus.core
from nivelus.core.deliver.warm import warm_kernels


def test_every_inner_loop_is_compiled_by_warming() -> None:
    warm_kernels()
    loops = {}
    for module in pkgutil.walk_packages(nivelus.core.__path__, "nivelus.core."):
        for name, value in vars(importlib.import_module(module.name)).items():
            if isinstance(value, Dispatcher):
                loops[value.py_func.__module__, name] = value
    assert len(loops) > 20
    # one that another calls is compiled into that
    inner = {name for loop in loops.values() for name in loop.py_func.__code__.co_names}
    assert {name for (_, name), loop in loops.items() if not loop.overloads} <= inner
