"""Signing in at the console: a key, once, for a cookie that scripts cannot read."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response

from gleaner.service.http.access import ANY_KEY, credential_of, require_same_origin
from gleaner.service.http.callers import address_of, is_secure
from gleaner.service.http.dependencies import PROBLEMS
from gleaner.service.http.guarded_route import GuardedRoute
from gleaner.service.http.problems import AccessDeniedError
from gleaner.service.http.state import ConnectionDep, ServiceDep
from gleaner.service.keys.auditing import record_write
from gleaner.store import sessions
from gleaner.wire.keys import SESSION_COOKIE, Session, SignIn

router = APIRouter(prefix="/v1", tags=["keys"], responses=PROBLEMS, route_class=GuardedRoute)


@router.get("/session", dependencies=[ANY_KEY])
def get_session(request: Request, service: ServiceDep) -> Session:
    """As whom this call was let in: the key's name and scopes, none where none is needed."""
    sent = credential_of(request, service)
    if sent is None:
        return Session()
    key = service.keys.find(sent)
    return Session(key=key.name, scopes=sorted(key.scopes), ends_at=key.ends_at)


@router.post("/session", status_code=204)
def sign_in(body: SignIn, request: Request, service: ServiceDep, connection: ConnectionDep) -> Response:
    """Give a key, take a cookie: for browsers. It lasts twelve hours, and ends with the secret that was given."""
    require_same_origin(request)
    request.state.address = address_of(request, service.settings)
    begun = sessions.begin(connection, body.key.strip())
    if begun is None:
        service.keys.refuse_wrong(request.state.address)
        raise AccessDeniedError("this key is unknown, has ended or was revoked", 401)
    token, request.state.key_name = begun
    answer = Response(status_code=204)
    answer.set_cookie(
        SESSION_COOKIE,
        token,
        max_age=int(sessions.LASTS.total_seconds()),
        httponly=True,
        samesite="strict",
        secure=is_secure(request, service.settings),
        path="/",
    )
    return answer


@router.delete("/session", status_code=204, dependencies=[ANY_KEY])
def sign_out(request: Request, service: ServiceDep) -> Response:
    """End the session that the cookie names."""
    if token := request.cookies.get(SESSION_COOKIE):
        with service.engine.begin() as connection:
            sessions.end(connection, token)
            record_write(connection, request)
        service.keys.forget()
    answer = Response(status_code=204)
    answer.delete_cookie(SESSION_COOKIE, path="/", httponly=True, samesite="strict")
    return answer
