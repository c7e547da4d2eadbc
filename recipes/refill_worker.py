"""A worker of the berth service that refills keys when a warm run asks for them. It needs
`pip install ./clients/python`.

    verax tenant create quayside
    verax namespace create quayside/occupancy
    VERAX_WIRE_URL=127.0.0.1:8751 VERAX_TOKEN_FILE=token python refill_worker.py &
    verax warm fill quayside/occupancy --key occupancy/aldermouth --key occupancy/brinewick
"""

import time

from verax import NO_VALUE, Refilled, Verax


def count_berths(harbor):
    """What takes long: counting the berths that are taken."""
    time.sleep(0.05)
    # There is no such harbor, which is worth keeping, too.
    return None if harbor == "nowhere" else {"harbor": harbor, "occupied": len(harbor)}


def refill(key):
    print("refilling", key, flush=True)
    found = count_berths(key.removeprefix("occupancy/"))
    return Refilled(NO_VALUE if found is None else found, max_age=600)


if __name__ == "__main__":
    with Verax.from_environment().cache("quayside", "occupancy") as occupancy:
        # Several workers share the keys of a run; each has so many at the same time.
        occupancy.serve_refills(refill, concurrency=4)
