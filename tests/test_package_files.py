"""Files out of packages of every packing, made by Python's own archive writers."""

import gzip
import io
import lzma
import tarfile
import unittest

import zstandard

from mending.formats import packages


class Packages(unittest.TestCase):
    def package(self, ending):
        inner = io.BytesIO()
        with tarfile.open(fileobj=inner, mode="w") as archive:
            for name, mode, data in (
                ("./bin/sail", 0o4755, b"program"),
                ("./etc/desk", 0o640, b""),
            ):
                member = tarfile.TarInfo(name)
                member.mode, member.size, member.uid, member.gid = mode, len(data), 7, 8
                archive.addfile(member, io.BytesIO(data))
            link = tarfile.TarInfo("./bin/row")
            link.type, link.linkname = tarfile.SYMTYPE, "sail"
            archive.addfile(link)
        packed = {
            b"": bytes,
            b".gz": gzip.compress,
            b".xz": lzma.compress,
            b".zst": zstandard.ZstdCompressor().compress,
        }[ending](inner.getvalue())
        rows = (
            (b"debian-binary", b"2.0\n"),
            (b"control.tar", b"odd"),
            (b"data.tar" + ending, packed),
        )
        return b"!<arch>\n" + b"".join(
            name.ljust(48)
            + str(len(data)).encode().ljust(10)
            + b"`\n"
            + data
            + b"\n" * (len(data) % 2)
            for name, data in rows
        )

    def test_every_packing_gives_the_same_files(self):
        program = packages.PackagedFile("/bin/sail", 0o4755, 7, 8, b"program")
        settings = packages.PackagedFile("/etc/desk", 0o640, 7, 8, b"")
        link = packages.PackagedFile("/bin/row", 0o777, 0, 0, b"sail", is_link=True)
        for ending in (b"", b".gz", b".xz", b".zst"):
            package = self.package(ending)
            with self.subTest(ending):
                found = list(packages.files_of(package, None, 1 << 20))
                self.assertEqual(found, [program, settings])
                found = list(
                    packages.files_of(package, {"/bin/sail", "/bin/row"}, 1 << 20, links=True)
                )
                self.assertEqual(found, [program, link])
                self.assertEqual(list(packages.files_of(package, {"/bin/none"}, 1 << 20)), [])
                self.assertEqual(list(packages.files_of(package, None, 100)), [])

    def test_damage_and_what_is_no_package_give_no_files(self):
        package = self.package(b".xz")
        for data in (b"", package[1:], package[:200], package[:100], package[:8] + b"x" * 60):
            self.assertEqual(list(packages.files_of(data, None, 1 << 20)), [])
        torn = bytearray(package)
        torn[-40] ^= 0xFF
        list(packages.files_of(bytes(torn), None, 1 << 20))


if __name__ == "__main__":
    unittest.main()
