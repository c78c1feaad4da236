"""The contact sheet: labels and traces at once, pictures by content as they are ready."""
