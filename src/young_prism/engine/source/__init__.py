"""The source folder: walk, inspection, pages that refer to images, watermark files."""
