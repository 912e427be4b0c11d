"""The page of a sign-off and the runner of a bundle in a real browser, where chromium and Node are installed."""

import json
import os
import shutil
import subprocess
import threading
from functools import partial
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer

import pytest
from conftest import called

pytestmark = [
    pytest.mark.slow,
    pytest.mark.skipif(
        not shutil.which("chromium") or not shutil.which("node"), reason="needs the browser chromium and Node"
    ),
]

START = """
import {chromium} from "playwright-core";
import {readFileSync} from "node:fs";
const browser = await chromium.launch({executablePath: "CHROMIUM", args: ["--no-sandbox", "--disable-gpu", "--use-gl=angle", "--use-angle=swiftshader",
  "--enable-unsafe-swiftshader", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync"]});
""".replace("CHROMIUM", shutil.which("chromium") or "")


def in_browser(folder, node_modules, script):
    """What a script prints as its last line, as JSON."""
    if not (folder / "node_modules").exists():
        os.symlink(node_modules, folder / "node_modules")
    (folder / "browser_test.mjs").write_text(START + script + "\nawait browser.close();\n")
    done = subprocess.run(["node", "browser_test.mjs"], cwd=folder, capture_output=True, text=True, timeout=200)
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout.splitlines()[-1])


def test_the_page_makes_no_request_and_an_accessibility_checker_finds_no_fault(signed, node_modules):
    """Light and dark, at the width of a desk and of a telephone: nothing is loaded, nothing is wider than the
    window."""
    found = in_browser(
        signed,
        node_modules,
        """
const results = [];
for (const colorScheme of ["light", "dark"]) for (const width of [1280, 390]) {
  const page = await (await browser.newContext({viewport: {width, height: 800}, colorScheme, bypassCSP: true})).newPage();
  const requests = [];
  page.on("request", request => { if (!request.url().startsWith("data:")) requests.push(request.url()); });
  await page.goto("file://" + process.cwd() + "/signoff.signoff/page.html");
  await page.addScriptTag({content: readFileSync("node_modules/axe-core/axe.min.js", "utf8")});
  const {violations, passes} = await page.evaluate(() => axe.run());
  results.push({requests: requests.length, violations: violations.map(each => each.id), passes: passes.length,
                overflow: await page.evaluate(() => document.documentElement.scrollWidth - innerWidth)});
}
console.log(JSON.stringify(results));""",
    )
    assert len(found) == 4
    for each in found:
        assert each["requests"] == 1 and each["violations"] == [] and each["passes"] > 20 and each["overflow"] <= 0, (
            each
        )


def test_a_failed_page_has_no_fault_either(signed, node_modules, tmp_path):
    folder = shutil.copytree(signed, tmp_path / "files", symlinks=True)
    text = (folder / "signoff.toml").read_text().replace("at_least = 0.85", "at_least = 0.999")
    (folder / "signoff.toml").write_text(text)
    (folder / "earlier.json").write_bytes((folder / "signoff.signoff" / "result.json").read_bytes())
    assert called("signoff", "--against", "earlier.json", cwd=folder).returncode == 1
    found = in_browser(
        folder,
        node_modules,
        """
const page = await (await browser.newContext({bypassCSP: true})).newPage();
await page.goto("file://" + process.cwd() + "/signoff.signoff/page.html");
await page.addScriptTag({content: readFileSync("node_modules/axe-core/axe.min.js", "utf8")});
const {violations} = await page.evaluate(() => axe.run());
await page.keyboard.press("Tab");
console.log(JSON.stringify({violations: violations.map(each => each.id), first: await page.evaluate(() => document.activeElement.textContent),
                            heading: await page.textContent(".verdict strong")}));""",
    )
    assert found == {"violations": [], "first": "Skip to the content", "heading": "FAIL: not signed off"}


def test_the_bundle_checks_itself_in_the_browser(unpacked, node_modules):
    """By WebAssembly: the same tensors bit for bit, scores within 1e-5 of the spread."""
    handler = partial(SimpleHTTPRequestHandler, directory=str(unpacked))
    handler.log_message = lambda *_: None
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True).start()
    try:
        said = in_browser(
            unpacked,
            node_modules,
            f"""
const page = await browser.newPage();
await page.goto("http://127.0.0.1:{server.server_address[1]}/browser.html#check");
await page.waitForFunction(() => /All bundled|FAIL: see/.test(document.getElementById("said").textContent), null, {{timeout: 120000}});
console.log(JSON.stringify(await page.textContent("#said")));""",
        )
    finally:
        server.shutdown()
        server.server_close()
    assert "All bundled images pass." in said and said.count("tensor identical") == 10, said
