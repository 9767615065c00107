"""The JSON documents that commands print, as types; ``registry`` names them by command."""
