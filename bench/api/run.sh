#!/bin/sh
# Exercises a service with requests made from its description, right and wrong ones: sh bench/api/run.sh [ADDRESS].
# Needs schemathesis from PyPI (python3 -m pip install schemathesis), and a service such as that of `logothete demo --serve`.
set -eu
address=${1:-http://127.0.0.1:8472}
# A job's events end with the job, and there is a job only after an upload.
schemathesis run "$address/v1/openapi.json" --url "$address" --seed 7 --max-examples 60 --request-timeout 60 \
    --checks not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance
