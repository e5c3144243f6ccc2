"""Asking a provider of sign-ins who somebody is (OpenID Connect, authorization code with PKCE), by a standard library.

Everything that could be replayed or swapped is tied to the one who asked: state, nonce and verifier lie sealed in a cookie of theirs.
"""

from __future__ import annotations

import secrets
import warnings
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import httpx

TIMEOUT_S = 8.0
#: ways of proving oneself that are something else than a password (RFC 8176); alone each is one factor, as a password is
OTHER_WAYS = {"otp", "hwk", "swk", "fpt", "face", "sc"}
ALGORITHMS = ["RS256", "PS256", "ES256"]


class NotVouched(Exception):
    """The provider did not vouch for anybody; the sentence says why, and nothing of what it sent."""


@dataclass(frozen=True)
class Asked:
    """What an answer must fit: kept by whoever asked until it comes."""

    address: str
    state: str
    nonce: str
    verifier: str


@dataclass(frozen=True)
class Vouched:
    """Whom the provider means, and whether they proved it with more than a password."""

    issuer: str
    subject: str
    name: str
    strong: bool


def _metadata(issuer: str, client: httpx.Client) -> dict[str, Any]:
    from authlib.oidc.discovery import OpenIDProviderMetadata

    found = client.get(issuer.rstrip("/") + "/.well-known/openid-configuration")
    found.raise_for_status()
    metadata = OpenIDProviderMetadata(found.json())
    metadata.validate_issuer()
    metadata.validate_token_endpoint()
    metadata.validate_jwks_uri()
    if metadata["issuer"] != issuer:
        raise NotVouched("the provider calls itself something else than VORNET_OIDC_ISSUER says")
    return dict(metadata)


def _session(client_id: str, client_secret: str, back: str) -> Any:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        from authlib.integrations.httpx_client import OAuth2Client

    method = "client_secret_basic" if client_secret else "none"
    return OAuth2Client(
        client_id, client_secret, scope="openid profile", redirect_uri=back, code_challenge_method="S256",
        token_endpoint_auth_method=method, timeout=TIMEOUT_S, trust_env=False,
    )  # fmt: skip


def _strong(ways: set[str]) -> bool:
    """Whether somebody proved themselves in two ways: the provider says so, or names a password and another."""
    return "mfa" in ways or ("pwd" in ways and not OTHER_WAYS.isdisjoint(ways))


def ask(issuer: str, client_id: str, client_secret: str, back: str) -> Asked:
    """Where to send whoever wants to be vouched for. Raises NotVouched."""
    import httpx
    from authlib.common.security import generate_token

    try:
        with httpx.Client(timeout=TIMEOUT_S, trust_env=False) as client:
            metadata = _metadata(issuer, client)
        with _session(client_id, client_secret, back) as session:
            nonce, verifier = secrets.token_urlsafe(24), generate_token(64)
            address, state = session.create_authorization_url(metadata["authorization_endpoint"], nonce=nonce, code_verifier=verifier)
    except (httpx.HTTPError, ValueError, KeyError) as error:
        raise NotVouched("the provider of sign-ins does not answer as one does") from error
    return Asked(str(address), str(state), nonce, str(verifier))


def answered(issuer: str, client_id: str, client_secret: str, back: str, asked: Asked, came: str) -> Vouched:
    """Who came back, by the address they came back with: the code is exchanged, the token's signature, issuer, audience, time and nonce
    are looked at. Raises NotVouched."""
    import httpx
    from authlib.common.errors import AuthlibBaseError
    from authlib.oidc.core import CodeIDToken
    from joserfc import jwt
    from joserfc.errors import JoseError
    from joserfc.jwk import KeySet

    try:
        with httpx.Client(timeout=TIMEOUT_S, trust_env=False) as client, _session(client_id, client_secret, back) as session:
            metadata = _metadata(issuer, client)
            session.state = asked.state
            token = session.fetch_token(
                metadata["token_endpoint"], authorization_response=came, state=asked.state, code_verifier=asked.verifier
            )
            keys = client.get(metadata["jwks_uri"])
            keys.raise_for_status()
            read = jwt.decode(token["id_token"], KeySet.import_key_set(keys.json()), algorithms=ALGORITHMS)
            options = {"iss": {"essential": True, "values": [issuer]}, "aud": {"essential": True, "value": client_id}}
            claims = CodeIDToken(
                read.claims, read.header, options, {"nonce": asked.nonce, "client_id": client_id, "access_token": token.get("access_token")}
            )
            claims.validate(leeway=60)
    except (httpx.HTTPError, AuthlibBaseError, JoseError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise NotVouched("the provider did not vouch for you: try again") from error
    amr = claims.get("amr") or []
    name = str(claims.get("name") or claims.get("preferred_username") or "")
    return Vouched(issuer, str(claims["sub"]), name[:120], _strong({str(way) for way in amr}))
