"""A sign of life after each good round, so that silence raises the alarm elsewhere (a dead man's switch)."""

from pathlib import Path

from historon.estate import SecretError, SecretRef
from historon.notices.programs import NoticeError

__all__ = ["beat"]

_TIMEOUT_S = 20


def beat(reference: SecretRef, folder: Path) -> None:
    """Request the address. Raises NoticeError, which never shows it: who knows it can keep the alarm silent."""
    import httpx  # imported where it is used: few estates have a switch

    try:
        address = reference.resolve(folder).reveal().strip()
        answer = httpx.get(address, timeout=_TIMEOUT_S, follow_redirects=True)
    except SecretError as exc:
        raise NoticeError(f"heartbeat: {exc.message}", hint=exc.hint) from exc
    except (httpx.InvalidURL, httpx.UnsupportedProtocol) as exc:
        raise NoticeError("heartbeat: this is no address", hint="it begins with https://") from exc
    except httpx.HTTPError as exc:
        raise NoticeError(
            f"heartbeat: nobody answers ({type(exc).__name__})", hint="is the address right, and reachable from here?"
        ) from exc
    if answer.is_error:
        raise NoticeError(f"heartbeat: answered with status {answer.status_code}", hint="is the address still valid?")
