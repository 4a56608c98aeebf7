"""A server that speaks S3, on loopback, for tests of what is kept in an object store."""

import logging
import os
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from unittest import mock

import boto3
from moto.moto_server.threaded_moto_server import ThreadedMotoServer

REGION = "us-east-1"


@contextmanager
def object_store() -> Iterator["ObjectStore"]:
    """A server with one bucket; the environment says where it is and how to get in."""
    logging.getLogger("werkzeug").setLevel(logging.ERROR)
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    try:
        host, port = server.get_host_and_port()
        address = f"http://{host}:{port}"
        told = {
            "AWS_ENDPOINT_URL": address, "AWS_ACCESS_KEY_ID": "rope", "AWS_SECRET_ACCESS_KEY": "way",
            "AWS_DEFAULT_REGION": REGION, "AWS_EC2_METADATA_DISABLED": "true",
        }  # fmt: skip
        with mock.patch.dict(os.environ, told):
            yield ObjectStore(server, told)
    finally:
        server.stop()


class ObjectStore:
    """See `object_store`.

    told : what the environment of another process needs to find it
    """

    def __init__(self, server: ThreadedMotoServer, told: dict[str, str]) -> None:
        self.server, self.told = server, told
        # A bucket's address is remembered by who opened it: no two tests in a process have the same.
        self.bucket = f"doppio-{uuid.uuid4().hex[:12]}"
        client = boto3.client("s3", endpoint_url=told["AWS_ENDPOINT_URL"], region_name=REGION)
        client.create_bucket(Bucket=self.bucket)

    def folder(self) -> str:
        """The address of the bucket; a test takes a folder of its own in it."""
        return f"s3://{self.bucket}"
