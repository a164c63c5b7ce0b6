"""The API by its own description: for any request, no answer is a 5xx, and every status is described."""

import faulthandler
import os
import unittest
import warnings

import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from tests.studio.in_studio import InStudio

# Writes to any folder that the order names; other tests cover it.
LEFT_ALONE = {("POST", "/api/shots/{shot_id}/deliveries")}
EXAMPLES = int(os.environ.get("ISBJORN_FUZZ_EXAMPLES", "6"))


class Fuzzed(InStudio):
    def test_every_answer_is_described(self) -> None:
        warnings.simplefilter("ignore")
        schema = schemathesis.openapi.from_dict(self.app.openapi())
        operations = [found.ok() for found in schema.get_all_operations()]
        self.assertGreater(len(operations), 60)
        for operation in operations:
            if (operation.method.upper(), operation.path) in LEFT_ALONE:
                continue
            with self.subTest(f"{operation.method} {operation.path}"):
                # Each of them has as long as any test has.
                faulthandler.dump_traceback_later(120, exit=True)
                self.fuzz(operation)

    def fuzz(self, operation) -> None:  # type: ignore[no-untyped-def]
        described = {str(status) for status in operation.definition.raw["responses"]}

        @settings(
            max_examples=EXAMPLES,
            deadline=None,
            derandomize=True,
            database=None,
            phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        )
        @given(case=operation.as_strategy(), real=st.booleans())
        def check(case, real) -> None:  # type: ignore[no-untyped-def]
            # Half of the calls are about things that are there.
            there = {"shot_id": self.shot, "project_id": self.project} if real else {}
            path = operation.path
            for name, value in {**(case.path_parameters or {}), **there}.items():
                path = path.replace("{" + name + "}", str(value).replace("/", "%2F") or "0")
            body = {} if not isinstance(case.body, (dict, list, str, int, float, type(None))) else {"json": case.body}
            query = {k: v for k, v in (case.query or {}).items() if v is not None}
            answer = self.client.request(operation.method.upper(), path, params=query, **body)
            self.assertLess(answer.status_code, 500, (path, query, body, answer.text[:300]))
            self.assertIn(str(answer.status_code), described, (path, query, answer.text[:300]))

        check()


if __name__ == "__main__":
    unittest.main()
