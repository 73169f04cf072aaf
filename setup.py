"""What a package index shows. Everything else about the package stands in pyproject.toml.

A README's links lead into the checkout, which an index does not have. A release is built with the address of its files, as
in ``PLAINSTEP_ADDRESS=https://HOST/PATH/v0.1.0/``: then pictures and links lead there. Without it they are left out.
"""

import os
import re
from pathlib import Path

from setuptools import setup

PICTURE = re.compile(r"!\[([^\]]*)\]\((?!https?:)([^)]*)\)\n*")
LINK = re.compile(r"(?<!!)\[([^\]]*)\]\((?!https?:)([^)]*)\)")


def described(readme: str, address: str) -> str:
    """A README whose pictures and links lead to an address; without one, a README without them."""
    if not address:
        return LINK.sub(r"\1", PICTURE.sub("", readme))
    base = address.rstrip("/")
    return re.sub(r"\]\((?!https?:)([^)]*)\)", rf"]({base}/\1)", readme)


def urls(address: str) -> dict[str, str]:
    """The links beside the description."""
    pages = {"Documentation": "docs/first-hour.md", "Changelog": "CHANGELOG.md", "Source": "README.md"}
    return {name: f"{address.rstrip('/')}/{page}" for name, page in pages.items()} if address else {}


if __name__ == "__main__":
    told = os.environ.get("PLAINSTEP_ADDRESS", "")
    setup(
        long_description=described(Path(__file__).with_name("README.md").read_text(encoding="utf-8"), told),
        long_description_content_type="text/markdown",
        project_urls=urls(told),
    )
