"""Patches: what a file becomes by a diff, a JSON patch, or edits of single keys. Bytes in, bytes out."""
