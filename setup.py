"""Builds the kernels' library, printed from the kernels, where there is a C compiler. What else there is to build stands in pyproject.toml."""

import sys
from pathlib import Path

from setuptools import Extension, setup
from setuptools.command.build_ext import build_ext

ROOT = Path(__file__).parent
sys.path.insert(0, str(ROOT / "src"))


class BuildKernels(build_ext):
    """Prints the kernels as C before it compiles them."""

    def build_extension(self, ext: Extension) -> None:
        from pivrex.kernels.building import FLAGS
        from pivrex.kernels.printer import printed

        source = Path(self.build_temp) / "kernels.c"
        source.parent.mkdir(parents=True, exist_ok=True)
        source.write_text(printed(), encoding="utf-8")
        ext.sources = [str(source)]
        ext.extra_compile_args = list(FLAGS) if self.compiler.compiler_type != "msvc" else ["/fp:precise"]
        super().build_extension(ext)

    def get_ext_filename(self, fullname: str) -> str:
        return str(Path(*fullname.split(".")[:-1]) / "built.kernels")  # a name that no one takes for a module

    def get_export_symbols(self, ext: Extension) -> list[str]:
        return []  # it is no module of Python's: the functions say themselves that they are shown


# optional: without a compiler, or where it fails, Pivrex computes in Python
setup(ext_modules=[Extension("pivrex.kernels._built", [], optional=True)], cmdclass={"build_ext": BuildKernels})
