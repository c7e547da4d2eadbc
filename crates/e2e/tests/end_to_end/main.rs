//! Everything together, through the interfaces that users have: the command line, HTTP, the wire
//! protocol, the client libraries and the console.
//!
//! One program for all files, as each program takes seconds to link. One file's tests run with
//! `cargo test --package verax-e2e --test end_to_end locks`. The drills are a program of their own:
//! they measure, so nothing runs beside them.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stdout)]

/// The program: how it starts and ends, fails over, and what it says of itself.
mod running {
    mod away;
    mod bad_input;
    mod degraded;
    mod diagnosis;
    mod doors;
    mod ephemeral;
    mod faults;
    mod nodes;
    mod pair_faults;
}

/// The demo, as a new user meets it.
mod demo {
    mod first_session;
}

/// Entries, and what stands beside them: counters, rate limits, locks, policies, memory.
mod entries {
    mod browse;
    mod conformance;
    mod damage;
    mod entry_commands;
    mod json_answers;
    mod locks;
    mod memory;
    mod over_http;
    mod own_entries;
    mod policy;
    mod wire;
}

/// How values come in: origins, permits, service instances, refillers.
mod refills {
    mod origins;
    mod permit_conformance;
    mod permits;
    mod reading_through;
    mod refillers;
    mod service_instances;
}

/// Warm plans and their schedules.
mod warming {
    mod schedules;
    mod warm_plans;
}

/// Load runs.
mod load {
    mod lanes;
    mod load_lab;
}

/// Who may do what, who did what, and how much.
mod administration {
    mod activity;
    mod quotas;
    mod rights;
    mod tokens;
    mod usage;
}

/// The console in headless Chromium.
mod console {
    mod first_steps;
    mod pages;
}

/// Clients in other languages, and the description of the API that one of them is made from.
mod clients {
    mod description;
    mod python;
    mod typescript;
}
