"""Sans-IO codecs: bytes in, dataclasses out, and back. Nothing here touches a socket."""
