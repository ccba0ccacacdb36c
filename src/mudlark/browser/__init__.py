"""A real browser as a witness: starting it, listening, recording, and the captures that are left."""
