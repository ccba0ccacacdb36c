"""A real browser as an observer: starting it, listening, recording, and the captures that are left."""
