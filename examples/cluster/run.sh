#!/usr/bin/env bash
# Starts a scheduler and two workers on this machine, loads the demo's lock houses into PostgreSQL by them, then copies the
# passages there in four ranges, and stops what it started. Needs: pip install 'kanal[cluster,postgresql]', and a database
# of its own, such as KANAL_EXAMPLE_POSTGRESQL=postgresql://postgres@127.0.0.1/test
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
export KANAL_EXAMPLE_POSTGRESQL="${KANAL_EXAMPLE_POSTGRESQL:-postgresql://postgres@127.0.0.1/test}"

python -m dask scheduler --host 127.0.0.1 --port 0 --no-dashboard --scheduler-file scheduler.json > scheduler.log 2>&1 &
trap 'kill $(jobs -p)' EXIT
until [ -s scheduler.json ]; do sleep 0.2; done
for name in one two; do
    python -m dask worker --scheduler-file scheduler.json --name "$name" --nthreads 1 --no-nanny --no-dashboard \
        > "worker-$name.log" 2>&1 &
done
KANAL_CLUSTER=$(python -c 'import json; print(json.load(open("scheduler.json"))["address"])')
export KANAL_CLUSTER
until kanal ping "$here/archive.toml" 2> /dev/null; do sleep 1; done

# The demo's own job, with the register on PostgreSQL instead.
kanal demo demo --json > /dev/null
kanal run "$here/register.toml" --json > /dev/null
sed "s|^url = \"sqlite:///register.db\"|url = \"\${KANAL_EXAMPLE_POSTGRESQL}\"|" demo/lock-register.toml > demo/on-postgresql.toml
printf '\n[run_log]\nurl = "${KANAL_EXAMPLE_POSTGRESQL}"\n' >> demo/on-postgresql.toml
kanal run demo/on-postgresql.toml

kanal check "$here/archive.toml"
kanal run "$here/archive.toml"
kanal runs --job "$here/archive.toml" "$(kanal runs --job "$here/archive.toml" --json |
    python -c 'import json, sys; print(json.load(sys.stdin)[0]["run"])')"
