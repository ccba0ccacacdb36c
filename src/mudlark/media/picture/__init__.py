"""Pictures: streams of NAL units, the parameter sets of H.264 and HEVC, and how they stand in samples."""
