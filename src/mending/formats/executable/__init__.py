"""Programs and kernels: ELF, the PE images that firmware loads, and the x86 boot protocol."""
