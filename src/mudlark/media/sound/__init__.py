"""Sound: frames found by their lengths, the codecs that have such frames, and segments that are nothing else."""
