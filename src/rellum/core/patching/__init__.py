"""Patches: what a file becomes by a diff, a binary delta, a JSON patch, or edits of single keys.

In: bytes (or mapped files) and a patch. Out: bytes, or a PatchFault with the line. Every maker is bounded
in what it may write. Pure but for container files; imports no other package.
"""
