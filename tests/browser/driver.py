"""One headless browser for all classes that a process runs, started when the first of them wants it."""

import tempfile

from selenium import webdriver

FLAGS = (
    "--headless=new --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking "
    "--disable-component-update --disable-sync --disable-dev-shm-usage --window-size=1280,900 "
    "--force-prefers-reduced-motion "
    # Pages that were left are gone, so the next one goes on in their process, where the scripts are compiled.
    "--disable-features=BackForwardCache"
).split()
_open: list[tuple[webdriver.Chrome, tempfile.TemporaryDirectory]] = []


def shared() -> webdriver.Chrome:
    """The browser of this process."""
    if not _open:
        profile = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        options = webdriver.ChromeOptions()
        for flag in (*FLAGS, f"--user-data-dir={profile.name}"):
            options.add_argument(flag)
        options.binary_location = "/usr/bin/chromium"
        options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
        _open.append((webdriver.Chrome(options, webdriver.ChromeService("/usr/bin/chromedriver")), profile))
    return _open[0][0]


def close() -> None:
    """End the browser, if there is one."""
    while _open:
        browser, profile = _open.pop()
        browser.quit()
        profile.cleanup()
