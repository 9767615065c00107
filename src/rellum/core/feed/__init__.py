"""Feeds: a pack as static files that any web server, object store or disk can hold.

Content lies in *packs* (frames of Zstandard, RFC 8878), named by hash and never changed; an *index* for each
version says which file is where; *deltas* lead from earlier versions to it. The indexes are the targets of
The Update Framework, whose metadata says which version is the newest and who says so.
"""
