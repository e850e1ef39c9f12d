"""What people say of originals: focal point, title and texts."""

from __future__ import annotations

from collections.abc import Iterable

from sqlalchemy import select

from young_prism.core.selection.geometry import GeometryModel
from young_prism.core.selection.image_metadata import NO_METADATA, ImageMetadata
from young_prism.store.models import ImageMetadataRow
from young_prism.store.sessions import Sessions
from young_prism.store.sources import touch_source


class MetadataRecords(Sessions):
    """The repository of image metadata."""

    def by_path(self, source_id: int) -> dict[str, ImageMetadata]:
        """Return the metadata of a source's originals, by path. Metadata of deleted originals is kept: they may come back."""
        with self._session() as session:
            return {
                row.path: ImageMetadata(
                    None if row.focal_x is None or row.focal_y is None else (row.focal_x, row.focal_y),
                    row.title,
                    row.alt,
                    row.caption,
                    row.credit,
                    row.kind,
                    GeometryModel.model_validate(row.geometry).geometry(),
                )
                for row in session.scalars(
                    select(ImageMetadataRow).where(ImageMetadataRow.source_id == source_id)
                )
            }

    def set_kind(self, source_id: int, paths: Iterable[str], kind: str) -> None:
        """Set or, with an empty `kind`, clear the kind of some originals; their other metadata stays."""
        with self._session() as session:
            rows = {
                row.path: row
                for row in session.scalars(
                    select(ImageMetadataRow).where(ImageMetadataRow.source_id == source_id)
                )
            }
            for path in paths:
                row = rows.get(path) or ImageMetadataRow(source_id=source_id, path=path)
                row.kind = kind
                session.add(row)
            session.execute(touch_source(source_id))

    def set(self, source_id: int, path: str, detail: ImageMetadata) -> None:
        """Store the metadata of an original; empty metadata is deleted."""
        with self._session() as session:
            row = session.get(ImageMetadataRow, (source_id, path))
            if detail == NO_METADATA:
                if row:
                    session.delete(row)
            else:
                row = row or ImageMetadataRow(source_id=source_id, path=path)
                row.focal_x, row.focal_y = detail.focal or (None, None)
                row.title, row.alt = detail.title, detail.alt
                row.caption, row.credit = detail.caption, detail.credit
                row.kind = detail.kind
                row.geometry = GeometryModel.from_geometry(detail.geometry).written()
                session.add(row)
            session.execute(touch_source(source_id))
