"""The command line: the only place that knows click and rich."""

from historon.base.lazily import defer

# Imported by many and needed by few: reading the ledger speaks to nobody.
_NEEDED_BY_FEW = "asyncio ssl socket subprocess zipfile ipaddress traceback tempfile shutil"

defer(*_NEEDED_BY_FEW.split())
