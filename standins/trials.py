#!/usr/bin/env python3
"""The trials of the stand-ins: python3 standins/trials.py"""

import base64
import email.message
import hashlib
import importlib.machinery
import importlib.util
import json
import pathlib
import smtplib
import threading
import time
import unittest
import urllib.error
import urllib.parse
import urllib.request

HERE = pathlib.Path(__file__).parent


def load(name):
    """A stand-in as a module: its file has no ending."""
    loader = importlib.machinery.SourceFileLoader(name.replace("-", "_"), str(HERE / name))
    spec = importlib.util.spec_from_loader(loader.name, loader)
    module = importlib.util.module_from_spec(spec)
    loader.exec_module(module)
    return module


class JobYard(unittest.TestCase):
    def setUp(self):
        pipelines = {"hail": ["echo ahoy $WHO", "true"], "sink": ["echo going down; exit 3", "echo never"], "wait": ["sleep 60"]}
        self.server = load("job-yard").serve(pipelines, agents=1, token="t0ken")
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.base = f"http://127.0.0.1:{self.server.server_address[1]}"

    def tearDown(self):
        for job in list(self.server.yard.jobs.values()):
            self.server.yard.end(job)
        self.server.shutdown()
        self.server.server_close()

    def call(self, method, path, body=None, token="t0ken"):
        data = json.dumps(body).encode() if body is not None else None
        request = urllib.request.Request(self.base + path, data, {"authorization": f"Bearer {token}"}, method=method)
        try:
            with urllib.request.urlopen(request) as answer:
                return answer.status, answer.read().decode()
        except urllib.error.HTTPError as refused:
            return refused.code, refused.read().decode()

    def start(self, pipeline, **values):
        status, answer = self.call("POST", "/jobs", {"pipeline": pipeline, "values": values})
        self.assertEqual(status, 201, answer)
        return json.loads(answer)["id"]

    def until(self, job, *states):
        for _ in range(200):
            told = json.loads(self.call("GET", f"/jobs/{job}")[1])
            if told["state"] in states:
                return told
            time.sleep(0.05)
        self.fail(f"it is still {told}")

    def test_a_job_carries_its_steps_out_with_its_values(self):
        job = self.start("hail", WHO="Ada")
        self.until(job, "passed")
        log = self.call("GET", f"/jobs/{job}/log")[1]
        self.assertIn("ahoy Ada", log)
        self.assertIn("step 2 ended with status 0", log)
        self.assertIn("passed", self.call("GET", f"/jobs/{job}/page", token="")[1])

    def test_a_step_that_fails_is_the_last(self):
        job = self.start("sink")
        self.until(job, "failed")
        log = self.call("GET", f"/jobs/{job}/log")[1]
        self.assertIn("status 3", log)
        self.assertNotIn("never\n", log.split("──")[-1])

    def test_jobs_wait_for_an_agent_and_can_be_ended(self):
        first, second = self.start("wait"), self.start("wait")
        self.until(first, "running")
        self.assertEqual(self.until(second, "queued")["why"], "no agent is free")
        self.assertEqual(self.call("POST", f"/jobs/{second}/end")[0], 202)
        self.assertEqual(self.call("POST", f"/jobs/{first}/end")[0], 202)
        self.assertEqual(self.until(first, "ended")["state"], "ended")
        self.assertEqual(self.call("POST", f"/jobs/{first}/end")[0], 409)

    def test_what_is_not_allowed_or_not_there_is_told(self):
        self.assertEqual(self.call("POST", "/jobs", {"pipeline": "hail"}, token="other")[0], 401)
        self.assertEqual(self.call("POST", "/jobs", {"pipeline": "fly"})[0], 422)
        self.assertEqual(self.call("POST", "/jobs", {"pipeline": "hail", "values": {"A": 1}})[0], 422)
        self.assertEqual(self.call("GET", "/jobs/77")[0], 404)
        self.assertEqual(self.call("GET", "/jobs/77/log")[0], 404)

    def test_trouble_comes_as_often_as_it_was_asked_for(self):
        self.call("PUT", "/trouble", {"kind": "busy", "times": 2})
        told = [self.call("POST", "/jobs", {"pipeline": "hail"})[0] for _ in range(3)]
        self.assertEqual(told, [503, 503, 201])
        self.call("PUT", "/trouble", {"kind": "twice"})
        job = self.start("hail", WHO="twice")
        self.until(job, "passed")
        self.call("PUT", "/trouble", {"kind": "lost"})
        self.assertEqual(self.call("GET", f"/jobs/{self.start('hail')}")[0], 404)


class PodHarbour(unittest.TestCase):
    def setUp(self):
        self.server = load("pod-harbour").serve("/bin/echo", token="t0ken")
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.base = f"http://127.0.0.1:{self.server.server_address[1]}/api/v1/namespaces/quay/pods"

    def tearDown(self):
        self.server.shutdown()
        self.server.server_close()

    def call(self, method, path="", body=None, token="t0ken"):
        data = json.dumps(body).encode() if body is not None else None
        request = urllib.request.Request(self.base + path, data, {"authorization": f"Bearer {token}"}, method=method)
        try:
            with urllib.request.urlopen(request) as answer:
                text = answer.read().decode()
                return answer.status, json.loads(text) if answer.headers["content-type"] == "application/json" else text
        except urllib.error.HTTPError as refused:
            return refused.code, json.loads(refused.read())

    def pod(self, name, **labels):
        container = {"name": "boat", "image": "quay:1", "args": ["ahoy"]}
        return {"apiVersion": "v1", "kind": "Pod", "metadata": {"name": name, "labels": labels}, "spec": {"containers": [container]}}

    def until(self, name, phase):
        for _ in range(200):
            told = self.call("GET", f"/{name}")[1]
            if told["status"]["phase"] == phase:
                return told
            time.sleep(0.05)
        self.fail(f"it is still {told}")

    def test_a_pod_is_carried_out_found_by_its_label_and_deleted(self):
        self.assertEqual(self.call("POST", "", self.pod("a", line="quay"))[0], 201)
        self.assertEqual(self.call("POST", "", self.pod("a"))[1]["reason"], "AlreadyExists")
        self.call("POST", "", self.pod("b", line="other"))
        self.until("a", "Succeeded")
        self.assertEqual(self.call("GET", "/a/log")[1], "ahoy\n")
        found = self.call("GET", "?labelSelector=line=quay")[1]
        self.assertEqual([pod["metadata"]["name"] for pod in found["items"]], ["a"])
        self.assertEqual(self.call("DELETE", "/a")[0], 200)
        self.assertEqual(self.call("GET", "/a")[1]["reason"], "NotFound")

    def test_what_a_cluster_refuses_is_refused(self):
        self.assertEqual(self.call("GET", token="other")[0], 401)
        self.assertEqual(self.call("POST", "", {"kind": "Pod"})[0], 400)
        self.assertEqual(self.call("POST", "", {**self.pod("a"), "spec": {"containers": [{}]}})[0], 422)

    def test_pods_fail_as_they_do_in_a_cluster(self):
        self.server.harbour.trouble.update({"no-room": 1})
        self.call("POST", "", self.pod("a"))
        time.sleep(0.2)
        told = self.call("GET", "/a")[1]
        self.assertEqual((told["status"]["phase"], told["status"]["conditions"][0]["reason"]), ("Pending", "Unschedulable"))
        self.server.harbour.trouble.update({"broken": 1})
        self.call("POST", "", self.pod("b"))
        terminated = self.until("b", "Failed")["status"]["containerStatuses"][0]["state"]["terminated"]
        self.assertEqual((terminated["exitCode"], terminated["reason"]), (2, "Error"))


class PostRoom(unittest.TestCase):
    def setUp(self):
        self.web, self.mail = load("post-room").serve(user=("crew", "s3cret"))
        for server in (self.web, self.mail):
            threading.Thread(target=server.serve_forever, daemon=True).start()
        self.base = f"http://127.0.0.1:{self.web.server_address[1]}"

    def tearDown(self):
        for server in (self.web, self.mail):
            server.shutdown()
            server.server_close()

    def call(self, method, path, body=b""):
        request = urllib.request.Request(self.base + path, body or None, {"x-told": "yes"}, method=method)
        try:
            with urllib.request.urlopen(request) as answer:
                return answer.status, json.loads(answer.read())
        except urllib.error.HTTPError as refused:
            return refused.code, json.loads(refused.read())

    def send(self, password="s3cret", to=("ada@quay.example",)):
        message = email.message.EmailMessage()
        message["from"], message["to"], message["subject"] = "kesmo@quay.example", to[0], "gate ◆"
        message.set_content("late\n.a dot\n")
        with smtplib.SMTP("127.0.0.1", self.mail.server_address[1]) as smtp:
            smtp.login("crew", password)
            return smtp.sendmail("kesmo@quay.example", to, message.as_bytes())

    def test_what_is_posted_and_mailed_is_kept_and_shown(self):
        self.assertEqual(self.call("POST", "/chat?x=1", b"{}"), (200, {"taken": True}))
        self.send()
        posted, mailed = self.call("GET", "/arrived")[1]
        self.assertEqual((posted["path"], posted["body"], posted["headers"]["x-told"]), ("/chat?x=1", "{}", "yes"))
        self.assertEqual((mailed["to"], mailed["subject"], mailed["user"]), (["ada@quay.example"], "gate ◆", "crew"))
        self.assertEqual(mailed["text"].replace("\r", ""), "late\n.a dot\n\n")
        with self.assertRaises(smtplib.SMTPAuthenticationError):
            self.send("wrong")

    def test_trouble_comes_as_asked(self):
        for kind, status in (("busy", 500), ("gone", 410)):
            self.call("PUT", "/trouble", json.dumps({"kind": kind}).encode())
            self.assertEqual(self.call("POST", "/x", b"{}")[0], status)
        self.assertEqual(self.call("POST", "/x", b"{}")[0], 200)
        self.call("PUT", "/trouble", json.dumps({"kind": "mail-refused", "about": "bo@quay.example"}).encode())
        refused = self.send(to=("ada@quay.example", "bo@quay.example"))
        self.assertEqual(refused["bo@quay.example"][0], 550)
        self.call("PUT", "/trouble", json.dumps({"kind": "mail-drop"}).encode())
        with self.assertRaises(smtplib.SMTPServerDisconnected):
            self.send()
        self.assertEqual(len(self.call("GET", "/arrived")[1]), 3)


class HarbourRegister(unittest.TestCase):
    def setUp(self):
        self.register = load("harbour-register")
        self.server = self.register.serve(secret="s3cret", backs=["http://kesmo.example/signed-in"])
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.base = self.server.register.issuer

    def tearDown(self):
        self.server.shutdown()
        self.server.server_close()

    def authorize(self, verifier, **more):
        asked = {"response_type": "code", "client_id": "kesmo", "redirect_uri": "http://kesmo.example/signed-in", "scope": "openid", "state": "st",
                 "nonce": "no", "code_challenge": self.register.b64(hashlib.sha256(verifier).digest()), "code_challenge_method": "S256", "as": "ida", **more}
        opener = urllib.request.build_opener(NoRedirect)
        try:
            return opener.open(f"{self.base}/authorize?{urllib.parse.urlencode(asked)}").status, {}
        except urllib.error.HTTPError as answer:
            _, _, query = answer.headers.get("Location", "").partition("?")
            return answer.code, dict(urllib.parse.parse_qsl(query))

    def token(self, code, verifier, secret="s3cret"):
        form = {"grant_type": "authorization_code", "code": code, "redirect_uri": "http://kesmo.example/signed-in", "code_verifier": verifier}
        basic = base64.b64encode(f"kesmo:{secret}".encode()).decode()
        request = urllib.request.Request(f"{self.base}/token", urllib.parse.urlencode(form).encode(), {"authorization": f"Basic {basic}"})
        try:
            with urllib.request.urlopen(request) as answer:
                return answer.status, json.loads(answer.read())
        except urllib.error.HTTPError as refused:
            return refused.code, json.loads(refused.read())

    def test_a_code_is_good_once_and_with_its_verifier(self):
        code = self.authorize(b"v" * 43)[1]["code"]
        self.assertEqual(self.token(code, "v" * 43, "wrong")[0], 401)
        self.assertEqual(self.token(code, "v" * 43)[0], 200)
        self.assertEqual(self.token(code, "v" * 43)[1]["error"], "invalid_grant")
        self.assertEqual(self.token(self.authorize(b"v" * 43)[1]["code"], "w" * 43)[0], 400)

    def test_the_token_is_signed_and_tells_who_it_is(self):
        told = self.token(self.authorize(b"v" * 43)[1]["code"], "v" * 43)[1]["id_token"]
        head, claims, signature = (base64.urlsafe_b64decode(part + "==") for part in told.split("."))
        self.assertEqual(json.loads(claims)["groups"], ["wardens", "crew"])
        key = self.server.register.key
        opened = pow(int.from_bytes(signature, "big"), 65537, key.n).to_bytes(256, "big")
        self.assertTrue(opened.endswith(hashlib.sha256(told.rpartition(".")[0].encode()).digest()))
        self.assertEqual(json.loads(head)["kid"], key.kid)

    def test_nobody_is_led_elsewhere_and_what_is_missing_is_told(self):
        self.assertEqual(self.authorize(b"v", redirect_uri="http://evil.example")[0], 400)
        self.assertEqual(self.authorize(b"v", code_challenge_method="plain")[1]["error"], "invalid_request")


class NoRedirect(urllib.request.HTTPRedirectHandler):
    def redirect_request(self, *_):
        return None


if __name__ == "__main__":
    unittest.main(verbosity=1)
