"""The console, as people use it in their browser. A package: its tests share what its conftest begins, and no others."""
