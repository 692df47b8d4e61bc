"""Result stores by their address."""

from __future__ import annotations

from pathlib import Path

from .base import Store
from .folder import FolderStore


def store_at(address: str) -> Store:
    """A folder by its path, or a bucket as ``s3://bucket/below``. Raises BadInput."""
    if address.startswith("s3://"):
        from .bucket import BucketStore  # its packages are an extra

        return BucketStore(address)
    return FolderStore(Path(address))
