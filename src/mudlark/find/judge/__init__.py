"""What finds are worth: asked of the server, grouped, measured, ranked."""
