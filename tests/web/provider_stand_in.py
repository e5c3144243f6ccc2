"""A stand-in for a provider of sign-ins: discovery, authorization code with PKCE, tokens that are signed. It vouches for whomever it is
told to, and can be told to misbehave."""

import base64
import hashlib
import secrets
import threading
import time
from urllib.parse import parse_qs, urlencode, urlsplit

import uvicorn
from fastapi import FastAPI, Request
from fastapi.responses import JSONResponse, RedirectResponse
from joserfc import jwt
from joserfc.jwk import RSAKey

CLIENT, SECRET = "vornet-here", "between-us"


class StandIn:
    """On a loopback port of its own. ``person``: whom it vouches for; ``twist``: changes the token's claims before they are signed."""

    def __init__(self, port: int) -> None:
        self.issuer = f"http://127.0.0.1:{port}"
        self.key, self.other_key = RSAKey.generate_key(2048), RSAKey.generate_key(2048)
        self.codes: dict[str, dict[str, str]] = {}
        self.person, self.twist, self.sign_with, self.algorithm = {"sub": "7001", "name": "Vouched For"}, {}, None, "RS256"
        self.app = FastAPI()
        self.app.get("/.well-known/openid-configuration")(self.metadata)
        self.app.get("/authorize")(self.authorize)
        self.app.post("/token")(self.token)
        self.app.get("/keys")(self.keys)
        self.server = uvicorn.Server(uvicorn.Config(self.app, port=port, log_level="error"))
        self.thread = threading.Thread(target=self.server.run, daemon=True)
        self.thread.start()
        while not self.server.started:
            time.sleep(0.02)

    def metadata(self):
        there = self.issuer
        return {"issuer": there, "authorization_endpoint": f"{there}/authorize", "token_endpoint": f"{there}/token",
                "jwks_uri": f"{there}/keys", "response_types_supported": ["code"], "subject_types_supported": ["public"],
                "id_token_signing_alg_values_supported": ["RS256"]}  # fmt: skip

    def authorize(self, request: Request):
        asked = dict(request.query_params)
        assert asked["response_type"] == "code" and asked["code_challenge_method"] == "S256" and "openid" in asked["scope"]
        code = secrets.token_urlsafe(8)
        self.codes[code] = asked
        return RedirectResponse(f"{asked['redirect_uri']}?{urlencode({'code': code, 'state': asked['state']})}", 303)

    async def token(self, request: Request):
        form = {k: v[0] for k, v in parse_qs((await request.body()).decode()).items()}
        given = base64.b64decode(request.headers["Authorization"].split()[1]).decode()
        asked = self.codes.pop(form["code"], None)
        challenge = base64.urlsafe_b64encode(hashlib.sha256(form["code_verifier"].encode()).digest()).rstrip(b"=").decode()
        if asked is None or given != f"{CLIENT}:{SECRET}" or challenge != asked["code_challenge"]:
            return JSONResponse({"error": "invalid_grant"}, 400)
        now = int(time.time())
        claims = {"iss": self.issuer, "aud": CLIENT, "iat": now, "exp": now + 300, "nonce": asked["nonce"], **self.person, **self.twist}
        signed = jwt.encode({"alg": self.algorithm, "kid": "1"}, claims, self.sign_with or self.key, algorithms=[self.algorithm])
        return {"access_token": "a", "token_type": "Bearer", "id_token": signed}

    def keys(self):
        return {"keys": [{**self.key.as_dict(private=False), "kid": "1"}]}

    def back_from(self, address: str, client) -> str:
        """Go where a browser is sent; the path it comes back to."""
        import httpx

        sent = httpx.get(address).headers["location"]
        parts = urlsplit(sent)
        return f"{parts.path}?{parts.query}"

    def stop(self) -> None:
        self.server.should_exit = True
        self.thread.join(5)
