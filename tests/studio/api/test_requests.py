"""Any request from any site is answered in time and in words, and does no harm."""

import json
import threading
import unittest
from concurrent.futures import ThreadPoolExecutor

from tests.studio.in_studio import InStudio, Looking
from tests.waiting import processor_s


class Requests(InStudio):
    def test_nothing_that_is_sent_ends_in_a_5xx(self) -> None:
        shot, project = f"/api/shots/{self.shot}", f"/api/projects/{self.project}"
        name = {"changes": [{"op": "replace", "path": "/name", "value": "x"}]}
        cases = [
            ("GET", f"/api/shots/{2**63}", None), ("GET", "/api/shots/-1", None), ("GET", "/api/media/99/thumb", None),
            ("GET", f"{shot}/guides?frame={10**400}", None), ("GET", f"{shot}/frame?frame={2**62}&width=64", None),
            ("GET", f"{shot}/delivery-form?format=x", None), ("GET", f"{shot}/palette?frame=0&x0=0&y0=0&x1=0&y1=0", None),
            ("GET", f"{shot}/pick?frame=0&x=nan&y=inf", None), ("GET", "/api/emitters/kept-99999999999999999999/thumb", None),
            ("GET", "/api/nothing", None), ("PUT", "/api/health", None), ("GET", f"{shot}/lookout?frame=-{2**52}", None),
            ("PUT", f"/api/projects/{10**6}/media?name=a.png", b"x"), ("PUT", f"{project}/media?name=a%00.png", b"x"),
            ("PUT", f"{project}/media?name={'a' * 250}.png", b"x"), ("PUT", f"{project}/media?name=junk.exr", b"v/1\x01junk"),
            ("PUT", f"{project}/fonts?name=f.ttf", b"\x00\x01\x00\x00junk"), ("POST", "/api/folders", {"path": "/a\u0000b"}),
            ("POST", f"{project}/media/from-folder", {"path": "/" + "a" * 4000}),
            ("POST", f"{project}/shots/import", b"[" * 200_000), ("POST", "/api/emitters/import", b"{"),
            ("POST", f"{project}/shots/import", b'{"format": "isbjorn-shot", "seed": ' + b"9" * 5000 + b"}"),
            ("POST", f"{shot}/track/nobody/table", b"frame,x,y\n1e400,1,1"), ("POST", "/api/projects/import", b"PK no zip"),
            ("PATCH", shot, b'{"changes": ' + b"[" * 5000), ("PATCH", shot, b"\xff\xfe"),
            ("PATCH", shot, b'{"changes": [{"op": "replace", "path": "/name", "value": "\\ud800"}]}'),
            ("PATCH", shot, b'{"changes": [{"op": "replace", "path": "/\\ud800", "value": 1}]}'),
            ("PATCH", shot, b'{"changes": [{"op": "replace", "path": "/seed", "value": ' + b"9" * 5000 + b"}]}"),
            ("PATCH", shot, {**name, "frame": 2**62}), ("PATCH", f"/api/shots/{2**70}", name),
            ("POST", f"{shot}/deliveries", {"first": 0, "last": 8 * 10**16, "folder": "/tmp", "name": "x"}),
            ("POST", f"{shot}/deliveries", {"first": 0, "last": 1, "folder": "/tmp/a\u0000", "name": "x"}),
            ("GET", f"/api/bodies/picture?body={'[' * 9000}", None),
        ]  # fmt: skip
        for method, path, body in cases:
            with self.subTest(method=method, path=path[:80]):
                sent = {"content": body} if isinstance(body, bytes) else {"json": body} if body is not None else {}
                answer = self.client.request(method, path, **sent)  # type: ignore[arg-type]
                self.assertLess(answer.status_code, 500, answer.text)
                if answer.status_code >= 400:
                    self.assertEqual(set(answer.json()), {"what", "where", "remedy"}, answer.text)

    def test_a_number_without_end_is_refused_before_it_is_read(self) -> None:
        start = processor_s()
        self.assertIn("frame rate", self.problem(self.edit("/rate", "1e999999999")))
        body = json.dumps({"format": "isbjorn-shot", "rate": "9" * 100_000}).encode()
        self.problem(self.client.post(f"/api/projects/{self.project}/shots/import", content=body))
        self.assertLess(processor_s() - start, 5)

    def test_bodies_have_a_limit_whether_they_say_how_long_they_are_or_not(self) -> None:
        huge = b'{"name": "' + b"x" * (9 << 20) + b'"}'
        self.assertEqual(self.client.post("/api/projects", content=huge).status_code, 413)
        self.assertEqual(self.client.post("/api/projects", content=iter([huge])).status_code, 413)

    def test_another_site_may_ask_for_nothing(self) -> None:
        for site, status in (("cross-site", 403), ("same-site", 403), ("same-origin", 200), ("none", 200)):
            answer = self.client.get(f"/api/shots/{self.shot}", headers={"sec-fetch-site": site})
            self.assertEqual(answer.status_code, status, site)

    def test_every_answer_says_how_it_may_be_used(self) -> None:
        for path in ("/api/health", "/api/nothing", f"/api/shots/{self.shot}/thumb"):
            heads = self.client.get(path).headers
            self.assertEqual(heads["x-content-type-options"], "nosniff", path)
            self.assertIn("frame-ancestors 'none'", heads["content-security-policy"], path)

    def test_a_frame_beyond_the_shot_is_its_last_and_no_picture_is_boundless(self) -> None:
        def get(n: int) -> bytes:
            return self.client.get(f"/api/shots/{self.shot}/frame", params={"frame": n, "width": 64}).content

        self.assertEqual(get(10**6), get(49))
        self.edit("/height", 16_384)
        answer = self.client.get(f"/api/shots/{self.shot}/frame", params={"frame": 0, "width": 4096})
        self.assertEqual(answer.status_code, 200)
        self.assertEqual(self.client.get(f"/api/shots/{self.shot}/thumb").status_code, 200)

    def test_two_requests_for_letters_at_once_are_both_answered(self) -> None:
        def ask(n: int) -> int:
            body = json.dumps({"kind": "words", "text": f"Skarvøy {n}", "split": "words"})
            return self.client.get("/api/bodies/picture", params={"body": body, "side": 16 + n % 64}).status_code

        with ThreadPoolExecutor(8) as pool:
            self.assertEqual(set(pool.map(ask, range(160))), {200})


class Viewers(Looking):
    def test_messages_that_are_none_are_answered(self) -> None:
        with self.looking() as socket:
            socket.send_bytes(b"\x00\x01")
            self.assertEqual(socket.receive_json()["kind"], "problem")
            socket.send_json({"kind": "see", "frame": 0, "width": 64})
            self.assertEqual(socket.receive_json()["kind"], "fine")
            self.assertEqual(self.picture(socket)[0]["frame"], 0)
        for shot in (999, 2**70):
            with self.client.websocket_connect(f"/api/shots/{shot}/live", headers={"host": "127.0.0.1"}) as socket:
                self.assertIn("no", socket.receive_json()["what"])

    def test_a_viewer_still_sees_pictures_during_endless_edits(self) -> None:
        self.edit("/emitters/0/rate/value", 4000)
        with self.looking() as socket:
            socket.send_json({"kind": "see", "frame": 20, "width": 320})
            self.picture(socket)
            ended = threading.Event()

            def edits() -> None:
                value = 0
                while not ended.is_set():
                    value += 1
                    self.edit("/emitters/0/speed/value", 60 + value % 50, gesture="drag")

            editing = threading.Thread(target=edits)
            editing.start()
            try:
                for _ in range(6):
                    self.picture(socket)
            finally:
                ended.set()
                editing.join()


if __name__ == "__main__":
    unittest.main()
