"""Pictures by standard: documents of canvases (IIIF Presentation), image services (IIIF Image), deep-zoom pyramids."""
