"""Images that lie on web servers, in archives and in memory, and lists of them as tables."""

import csv
import http.server
import shutil
import tarfile
import threading
import zipfile

import fsspec
import pyarrow
import pyarrow.parquet
import pytest
from conftest import called, refused
from hypothesis import given
from hypothesis import strategies as st

from zygal.errors import FileError
from zygal.files.locations import StorageOutage, fetch, folder_of, from_base, is_url, joined, names_below, version_of
from zygal.inlet.images import SUFFIXES, images_below, list_images
from zygal.prediction.blocks import blocks_of, read_ahead
from zygal.prediction.lists import ImageList


class Pages(http.server.SimpleHTTPRequestHandler):
    """A folder as pages. down: connections are closed without an answer.

    together: a barrier of so many requests, none of which is answered before all are there. None: each at once.
    """

    down, together = False, None

    def log_message(self, *words):
        pass

    def do_GET(self):
        if self.server.together:
            self.server.together.wait()
        if self.server.down:
            self.close_connection = True
            return
        super().do_GET()

    def do_HEAD(self):
        if self.server.down:
            self.close_connection = True
            return
        super().do_HEAD()


@pytest.fixture
def pages(workspace):
    """The demo's files on a local web server: (server, its URL)."""
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), lambda *a: Pages(*a, directory=str(workspace)))
    server.down, server.together = False, None
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server, f"http://127.0.0.1:{server.server_port}"
    server.shutdown()


def packed(workspace):
    """The reference images in archives."""
    with tarfile.open(workspace / "images.tar", "w") as tar:
        tar.add(workspace / "reference", "reference")
    with zipfile.ZipFile(workspace / "images.zip", "w") as archive:
        for path in sorted((workspace / "reference").iterdir()):
            archive.write(path, f"reference/{path.name}")


def rows_of(path):
    """The rows without their paths."""
    with open(path, newline="") as file:
        return [row[1:] for row in csv.reader(file)]


@pytest.fixture
def places(workspace, pages):
    packed(workspace)
    memory = fsspec.filesystem("memory")
    for path in (workspace / "reference").iterdir():
        memory.pipe(f"/marks/reference/{path.name}", path.read_bytes())
    yield {
        "http": f"{pages[1]}/reference/",
        "tar": f"tar://reference::{workspace}/images.tar",
        "zip": "zip://::images.zip",
        "file": f"file://{workspace}/reference",
        "memory": "memory://marks/reference",
        "tar on a server": f"tar://::{pages[1]}/images.tar",
    }
    memory.rm("/marks", recursive=True)


@pytest.mark.slow
def test_rows_are_the_same_wherever_the_images_lie(places, workspace):
    assert called("classify", "channel_marks.onnx", "reference", "-o", "here.csv", cwd=workspace).returncode == 0
    wanted = rows_of(workspace / "here.csv")
    for name, url in places.items():
        output = f"{name.replace(' ', '_')}.csv"
        done = called("classify", "channel_marks.onnx", url, "-o", output, cwd=workspace)
        assert done.returncode == 0, (name, done.stderr)
        assert rows_of(workspace / output) == wanted, name
        done = called("classify", "channel_marks.onnx", url, "-o", output, cwd=workspace)
        assert "complete already" in done.stderr, (name, done.stderr)
    first = (workspace / "tar.csv").read_text().splitlines()[1]
    assert first.startswith(f"tar://reference/mark-00.jpg::{workspace}/images.tar,")


def test_a_replaced_object_is_noticed_and_a_missing_one_has_a_row(workspace):
    memory = fsspec.filesystem("memory")
    for number in range(20):
        memory.pipe(f"/replaced/{number:02}.jpg", (workspace / f"reference/mark-{number % 3:02}.jpg").read_bytes())
    (workspace / "list.txt").write_text("".join(f"memory://replaced/{number:02}.jpg\n" for number in range(21)))
    arguments = ("classify", "channel_marks.onnx", "--list", "list.txt", "-o", "rows.csv")
    done = called(*arguments, cwd=workspace)
    assert done.returncode == 3 and rows_of(workspace / "rows.csv")[21][-1] == "does not exist"
    for more in ((), ("--hash-images",)):
        memory.pipe("/replaced/03.jpg", f"another one {more}".encode())
        done = called(*arguments, *more, cwd=workspace)
        assert "made again" in done.stderr, done.stderr
    memory.rm("/replaced", recursive=True)


def test_lists_are_lines_or_tables(workspace, pages):
    names = [f"{pages[1]}/reference/mark-{number:02}.jpg" for number in range(3)] + ["reference/mark-05.jpg"]
    with (workspace / "list.csv").open("w", newline="") as file:
        csv.writer(file, delimiter=";").writerows(
            [("id", "image"), *((place, name) for place, name in enumerate(names))]
        )
    pyarrow.parquet.write_table(pyarrow.table({"id": list(range(4)), "where": names}), workspace / "list.parquet")
    assert (
        list(ImageList(str(workspace / "list.csv")))
        == list(ImageList(str(workspace / "list.parquet"), "where"))
        == names
    )
    assert list(ImageList(f"{pages[1]}/list.parquet", "where")) == list(ImageList(f"{pages[1]}/list.csv")) == names
    done = called(
        "classify", "channel_marks.onnx", "--list", "list.parquet", "--column", "where", "-o", "rows.csv", cwd=workspace
    )
    assert done.returncode == 0 and len(rows_of(workspace / "rows.csv")) == 5
    (workspace / "short.csv").write_text("path,id\na.jpg\n")
    (workspace / "empty.csv").write_text("path,id\n,3\n")
    (workspace / "false.parquet").write_bytes(b"PAR1 and nothing")
    (workspace / "lines.txt").write_text("reference/mark-01.jpg\n")
    for file, more, wanted in (
        ("list.parquet", (), "no column named path (its columns: id, where)"),
        ("list.csv", ("--column", "x"), "no column x"),
        ("lines.txt", ("--column", "x"), "is a list of lines"),
        ("short.csv", (), "1 columns in row 2"),
        ("empty.csv", (), "names no image in row 2"),
        ("false.parquet", (), "is not a Parquet file"),
        (f"{pages[1]}/none.csv", (), "does not exist"),
    ):
        refused(called("classify", "channel_marks.onnx", "--list", file, *more, "-o", "x.csv", cwd=workspace), wanted)
    assert not list(workspace.glob("x.csv*"))


@pytest.mark.slow
def test_labelled_images_lie_anywhere(workspace, pages):
    def accuracy(images):
        done = called(
            "tally", "channel_marks.onnx", "--images", images, "--json", "out.json", "--overwrite", cwd=workspace
        )
        assert done.returncode == 0, done.stderr
        return done.stdout.replace(images, "IMAGES")

    here = next(path for path in workspace.glob("labelled*.csv"))
    wanted = accuracy(here.name)
    with here.open() as file:
        rows = list(csv.reader(file))
    table = pyarrow.table({name: [row[place] for row in rows[1:]] for place, name in enumerate(rows[0])})
    pyarrow.parquet.write_table(table, workspace / "labelled.parquet")
    for images in ("labelled.parquet", f"{pages[1]}/labelled.parquet", f"{pages[1]}/{here.name}"):
        assert accuracy(images).splitlines()[-1] == wanted.splitlines()[-1]


@pytest.mark.slow
def test_a_storage_that_does_not_answer_stops_the_run_and_it_goes_on(workspace, pages, monkeypatch):
    monkeypatch.setattr("zygal.files.locations.PAUSES_SECONDS", (0.01,))
    server, url = pages
    (workspace / "list.txt").write_text(
        "".join(f"{url}/reference/{name}\n" for name in list_images(workspace / "reference") * 8)
    )
    called("classify", "channel_marks.onnx", "--list", "list.txt", "-o", "whole.csv", cwd=workspace)
    handle, answered = Pages.do_GET, []

    def breaks(self):
        answered.append(1)
        server.down = len(answered) > 120
        handle(self)

    monkeypatch.setattr(Pages, "do_GET", breaks)
    refused(
        called("classify", "channel_marks.onnx", "--list", "list.txt", "-o", "rows.csv", cwd=workspace),
        "does not answer",
    )
    monkeypatch.setattr(Pages, "do_GET", handle)
    server.down = False
    done = called("classify", "channel_marks.onnx", "--list", "list.txt", "-o", "rows.csv", cwd=workspace)
    assert (
        "is resumed after row" in done.stderr
        and (workspace / "rows.csv").read_bytes() == (workspace / "whole.csv").read_bytes()
    )


def test_reading_ahead_fetches_many_at_once(workspace, pages):
    server, url = pages
    names = [f"{url}/reference/{name}" for name in list_images(workspace / "reference")]
    # One after the other none would be answered: the barrier breaks, and the connections with it.
    server.together = threading.Barrier(4, timeout=60)
    assert len(names) % 4 == 0
    read = [content.data for block in read_ahead(blocks_of(names)) for content in block.contents.values()]
    assert read == [(workspace / "reference" / name.rpartition("/")[2]).read_bytes() for name in names]


@pytest.mark.parametrize(
    "url, wanted",
    [
        ("nosuch://x/y", "Protocol not known"),
        ("memory://nothing/here.jpg", "does not exist"),
        ("tar://a.jpg::none.tar", "no such file"),
        ("zip://a.jpg::channel_marks.onnx", "cannot be read"),
        ("tar://a.jpg::channel_marks.onnx", "cannot be read"),
    ],
)
def test_a_url_that_cannot_be_read_is_one_sentence(url, wanted, workspace):
    refused(called("classify", "channel_marks.onnx", url, cwd=workspace), wanted)


def test_a_missing_package_stops_the_run_and_large_objects_are_not_fetched_ahead(workspace, monkeypatch):
    with pytest.raises(StorageOutage, match="s3fs.*install that package"):
        fetch("s3://bucket/x.jpg")
    (workspace / "list.txt").write_text("reference/mark-01.jpg\ns3://bucket/x.jpg\n")
    refused(called("classify", "channel_marks.onnx", "--list", "list.txt", "-o", "x.csv", cwd=workspace), "s3fs")
    fsspec.filesystem("memory").pipe("/large.jpg", b"x" * 2000)
    monkeypatch.setattr("zygal.prediction.blocks.AHEAD_BYTES", 1000)
    (block,) = read_ahead(blocks_of(["memory://large.jpg", "memory://none.jpg"]))
    assert not block.contents and len(fetch("memory://large.jpg").data) == 2000


def test_an_object_that_is_too_large_is_not_read(workspace, monkeypatch):
    fsspec.filesystem("memory").pipe("/large.jpg", b"x" * 2000)
    monkeypatch.setattr("zygal.files.locations.MOST_BYTES", 1000)
    with pytest.raises(FileError, match="too much for an image"):
        fetch("memory://large.jpg")
    assert version_of("memory://large.jpg")[0] == 2000 and version_of("memory://other.jpg") == (-1, -1)


def test_a_web_page_links_to_its_own_images_only(pages, workspace):
    folder = workspace / "page"
    folder.mkdir()
    (folder / "index.html").write_text(
        "".join(
            f'<a href="{link}">x</a>'
            for link in (
                "b.jpg",
                "a.png",
                "../reference/mark-00.jpg",
                "http://elsewhere.invalid/c.jpg",
                "a.png?size=2",
                "notes.txt",
                ".hidden.jpg",
                "skipped.jpg",
            )
        )
    )
    assert list(names_below(f"{pages[1]}/page/", SUFFIXES, ["skip*"])) == ["a.png", "b.jpg"]


names = st.text("ab.", min_size=1, max_size=4).filter(lambda name: set(name) != {"."})


@given(
    st.lists(names, min_size=1, max_size=3),
    st.sampled_from(["", "s3://bucket/x", "tar://::x.tar", "zip://d::s3://b/y.zip", "folder"]),
)
def test_the_folder_of_a_joined_name_is_that_folder(parts, folder):
    name = joined(folder, parts[0])
    assert is_url(name) == is_url(folder) and folder_of(name) == folder
    assert is_url(from_base(name, "/base")) == is_url(name) and from_base(
        from_base(name, "/base"), "/other"
    ) == from_base(name, "/base")


def test_an_outage_is_told_from_a_missing_object(pages, monkeypatch):
    monkeypatch.setattr("zygal.files.locations.PAUSES_SECONDS", (0.01,))
    server, url = pages
    with pytest.raises(FileError, match="does not exist"):
        fetch(f"{url}/nothing.jpg")
    server.down = True
    for ask in (fetch, version_of):
        with pytest.raises(StorageOutage, match="does not answer"):
            ask(f"{url}/nothing.jpg")


def test_a_whole_folder_in_memory_is_gone_through_in_order(workspace):
    memory = fsspec.filesystem("memory")
    for name in ("b/2.jpg", "b.jpg", "a/1.PNG", ".hid/x.jpg", "readme.txt"):
        memory.pipe(f"/tree/{name}", b"x")
        (workspace / "tree" / name).parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(workspace / "channel_marks.onnx", workspace / "tree" / name)
    assert images_below("memory://tree") == list_images(workspace / "tree") == ["a/1.PNG", "b.jpg", "b/2.jpg"]
    memory.rm("/tree", recursive=True)
    with pytest.raises(FileError, match="is a URL, but a folder on this machine is needed"):
        list_images("memory://tree")
