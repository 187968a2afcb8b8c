"""What pyproject.toml cannot say: the module in C, without which everything works all the same, only slower."""

import os

from setuptools import Extension, setup

SAMPLES = Extension(
    "boxkite.core.picture.samples",
    ["src/boxkite/core/picture/samples.c"],
    extra_compile_args=["-O3"] if os.name == "posix" else [],
    py_limited_api=True,
    optional=True,  # where no compiler is at hand
)

setup(ext_modules=[SAMPLES], options={"bdist_wheel": {"py_limited_api": "cp311"}})
