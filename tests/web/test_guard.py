"""Who may talk to the application, and how much of what."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from fastapi.testclient import TestClient
from sqlalchemy.exc import OperationalError

from silent_loom.store.store import Store
from silent_loom.web.app import create_app
from silent_loom.web.guard import COOKIE, Guard, _name_of

HOST = {"host": "127.0.0.1:8321"}


@pytest.fixture
def store(tmp_path: Path) -> Store:
    return Store(tmp_path)


@pytest.fixture
def client(store: Store) -> Iterator[TestClient]:
    with TestClient(create_app(store, warm=False), base_url="http://127.0.0.1:8321", raise_server_exceptions=False) as client:
        yield client


@pytest.mark.parametrize("host", ["[::1].evil", "[::1]evil:80", "localhost:evil", "127.0.0.1.evil", "", "evil"])
def test_a_host_that_only_looks_like_ours_is_refused(client: TestClient, host: str) -> None:
    assert client.get("/api/materials", headers={"host": host}).status_code == 403


def test_names_of_hosts() -> None:
    assert _name_of("[::1]:80") == "[::1]"
    assert _name_of("LocalHost:80") == "localhost"
    assert _name_of("[::1]x") == ""


def test_a_write_from_another_site_is_refused_however_it_is_told(client: TestClient) -> None:
    for header in ({"origin": "http://evil"}, {"referer": "http://evil/page"}, {"sec-fetch-site": "cross-site"}):
        assert client.post("/api/materials/blank", json={}, headers=header).status_code == 403, header
    assert client.post("/api/materials/blank", json={}, headers={"referer": "http://127.0.0.1:8321/"}).status_code == 201


def test_a_body_in_chunks_has_a_bound_too(store: Store) -> None:
    app = create_app(store, warm=False)
    next(m for m in app.user_middleware if m.cls is Guard).kwargs["max_body"] = 1 << 16

    def endless() -> Iterator[bytes]:
        for _ in range(64):
            yield b"x" * 4096

    with TestClient(app, base_url="http://127.0.0.1:8321", raise_server_exceptions=False) as client:
        answer = client.post("/api/materials/blank", content=endless(), headers={"content-type": "application/json"})
    assert answer.status_code == 413
    assert "too large" in answer.json()["error"]


def test_an_application_that_others_reach_asks_for_its_token(store: Store) -> None:
    app = create_app(store, warm=False, hosts={"*"}, token="right")
    with TestClient(app, base_url="http://192.0.2.7:8321") as client:
        assert client.get("/api/materials").status_code == 401
        assert client.get("/?token=wrong").status_code == 401
        answer = client.get("/?token=right", follow_redirects=False)
        assert answer.status_code == 303
        assert answer.cookies[COOKIE] == "right"
        assert client.get("/api/materials").status_code == 200


def test_odd_requests_get_a_sentence_and_no_program_fault(client: TestClient) -> None:
    made = client.post("/api/materials/blank", json={"name": "Sheet"}).json()
    at, head, row = f"/api/materials/{made['id']}", made["head"], made["weave"]["rows"][1]["id"]
    change = {"base": head, "step_id": row}
    odd = [
        client.post(f"{at}/change", json={**change, "kind": "photo", "digest": "0" * 64}),
        client.post(f"{at}/change", json={**change, "kind": "mix", "amount": 5}),
        client.post(
            f"{at}/change", content='{"base": 1, "kind": "mix", "amount": NaN}', headers={"content-type": "application/json"}
        ),
        client.post(f"{at}/change", json={"base": 2**63, "kind": "switch", "step_id": row}),
        client.post(f"{at}/goto", json={"entry": 2**63}),
        client.get(f"{at}/map/base.png?entry={2**63}"),
        client.post(f"{at}/rename", content=b'{"name": "\\ud800"}', headers={"content-type": "application/json"}),
        client.post(f"{at}/probe", content='{"u": NaN}', headers={"content-type": "application/json"}),
        client.post(f"{at}/change", json={**change, "kind": "settings", "settings": {"depth_mm": "deep"}}),
    ]
    assert [a.status_code for a in odd if a.status_code not in (200, 404, 409, 422)] == []
    assert all(a.status_code == 200 or a.json() for a in odd)
    for each in [r["id"] for r in made["weave"]["rows"]]:
        now = client.get(at).json()["head"]
        client.post(f"{at}/change", json={"base": now, "kind": "remove", "step_id": each})
    assert client.get(at).json()["weave"]["rows"] == []
    for path in ("figures", "history", "deliveries", "spots", "report"):
        assert client.get(f"{at}/{path}").status_code in (200, 409, 422), path
    assert client.get("/api/materials").status_code == 200


@pytest.mark.parametrize(
    "name", ["..", ".", "", "n" * 300 + ".png", "a/../../b.png", "\ud800.png".encode("utf-8", "replace").decode()]
)
def test_files_of_any_name_are_opened_or_refused_in_a_sentence(client: TestClient, name: str) -> None:
    from silent_loom.demo.seed import PICTURES

    body = (PICTURES / "sailcloth.jpg").read_bytes()[:4000]
    answer = client.post("/api/open", files=[("files", (name, body, "image/png"))])
    assert answer.status_code in (200, 415, 422)
    assert answer.json()


def test_a_full_disk_is_a_sentence(client: TestClient, store: Store, monkeypatch: pytest.MonkeyPatch) -> None:
    made = client.post("/api/materials/blank", json={}).json()

    def full(*_args: object, **_more: object) -> None:
        raise OSError(28, "No space left on device")

    def full_database(*_args: object, **_more: object) -> None:
        raise OperationalError("", {}, Exception("database or disk is full"))

    monkeypatch.setattr(store.blobs, "put", full)
    answer = client.post("/api/materials", files={"photo": ("p.png", b"x", "image/png")})
    assert answer.status_code == 507
    assert "The disk is full" in answer.json()["error"].replace("the disk", "The disk")
    for call in ("rename", "change", "create"):
        monkeypatch.setattr(store, call, full_database)
    for path, body in ((f"/api/materials/{made['id']}/rename", {"name": "x"}), ("/api/materials/blank", {})):
        answer = client.post(path, json=body)
        assert answer.status_code == 507
        assert "kept" in answer.json()["error"]


def test_one_broken_material_does_not_hide_the_others(client: TestClient, store: Store) -> None:
    import sqlite3

    good = client.post("/api/materials/blank", json={"name": "Good"}).json()
    bad = client.post("/api/materials/blank", json={"name": "Bad"}).json()
    row = bad["weave"]["rows"][1]["id"]
    after = client.post(
        f"/api/materials/{bad['id']}/change", json={"base": bad["head"], "kind": "switch", "step_id": row, "on": False}
    )
    with sqlite3.connect(store.folder / "loom.sqlite") as raw:
        raw.execute("UPDATE entries SET weave = 'nothing' WHERE id = ?", (after.json()["head"],))
    cards = {m["name"]: m for m in client.get("/api/materials").json()["materials"]}
    assert cards["Good"]["error"] == ""
    assert cards["Bad"]["broken"]
    assert client.get(f"/api/materials/{good['id']}").status_code == 200
    assert client.post(f"/api/materials/{bad['id']}/last-readable").json()["head"] == bad["head"]
    assert not {m["name"]: m for m in client.get("/api/materials").json()["materials"]}["Bad"]["broken"]


def test_refusals_carry_the_same_headers_as_pages(tmp_path: Path) -> None:
    with TestClient(create_app(Store(tmp_path / "d"), warm=False, token="secret"), base_url="http://127.0.0.1") as client:
        for answer in (
            client.get("/", headers={"host": "evil.example"}),
            client.get("/"),
            client.get("/", params={"token": "secret"}, follow_redirects=False),
            client.post("/api/open", headers={"content-length": "99999999999", "cookie": "loom-token=secret"}),
        ):
            assert "default-src 'self'" in answer.headers["content-security-policy"], answer.status_code
            assert answer.headers["x-content-type-options"] == "nosniff"
            assert answer.headers.get_list("content-security-policy") == [answer.headers["content-security-policy"]]


def test_a_malformed_cookie_beside_ours_locks_nobody_out(tmp_path: Path) -> None:
    with TestClient(create_app(Store(tmp_path / "d"), warm=False, token="secret"), base_url="http://127.0.0.1") as client:
        for cookie in ("a[b]=c; loom-token=secret", 'x="unended; loom-token=secret', "loom-token=wrong; loom-token=secret"):
            assert client.get("/api/jobs", headers={"cookie": cookie}).status_code == 200, cookie
        assert client.get("/api/jobs", headers={"cookie": "loom-token=wrong"}).status_code == 401


def test_an_address_with_the_token_never_leads_to_another_host(tmp_path: Path) -> None:
    with TestClient(create_app(Store(tmp_path / "d"), warm=False, token="secret"), base_url="http://127.0.0.1") as client:
        answer = client.get("http://127.0.0.1//evil.example/x?token=secret", follow_redirects=False)
        assert answer.status_code == 303
        assert answer.headers["location"] == "/evil.example/x"
