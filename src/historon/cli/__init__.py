"""The command line."""

from historon.base.lazily import defer

# Imported by many and needed by few: reading the ledger speaks to nobody.
_NEEDED_BY_FEW = "asyncio ssl socket subprocess zipfile uuid platform ipaddress traceback tempfile shutil"

defer(*_NEEDED_BY_FEW.split())
