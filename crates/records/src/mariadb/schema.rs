//! The tables as Diesel sees them; kept in sync with migrations/.

diesel::table! {
    tenants (id) {
        id -> Unsigned<BigInt>,
        name -> Varchar,
        created_at -> Unsigned<BigInt>,
        quota -> Text,
    }
}

diesel::table! {
    lock_epochs (id) {
        id -> Unsigned<Integer>,
        begun_at -> Unsigned<BigInt>,
    }
}

diesel::table! {
    origins (id) {
        id -> Unsigned<BigInt>,
        tenant_id -> Unsigned<BigInt>,
        name -> Varchar,
        url -> Varchar,
        connect_timeout_ms -> Unsigned<BigInt>,
        total_timeout_ms -> Unsigned<BigInt>,
        max_response_bytes -> Unsigned<BigInt>,
        created_at -> Unsigned<BigInt>,
        query -> Nullable<Text>,
        credential -> Nullable<Varchar>,
        settings -> Text,
    }
}

diesel::table! {
    namespaces (id) {
        id -> Unsigned<BigInt>,
        tenant_id -> Unsigned<BigInt>,
        name -> Varchar,
        max_age_ms -> Unsigned<BigInt>,
        stale_while_revalidate_ms -> Unsigned<BigInt>,
        stale_if_error_ms -> Unsigned<BigInt>,
        max_value_bytes -> Unsigned<BigInt>,
        origin_id -> Nullable<Unsigned<BigInt>>,
        key_pattern -> Nullable<Varchar>,
        created_at -> Unsigned<BigInt>,
        reserve_bytes -> Unsigned<BigInt>,
        cap_bytes -> Nullable<Unsigned<BigInt>>,
        settings -> Text,
    }
}

diesel::table! {
    tokens (id) {
        id -> Unsigned<BigInt>,
        hash -> Binary,
        scopes -> Varchar,
        note -> Varchar,
        created_at -> Unsigned<BigInt>,
        revoked_at -> Nullable<Unsigned<BigInt>>,
        expires_at -> Nullable<Unsigned<BigInt>>,
        last_used_at -> Nullable<Unsigned<BigInt>>,
    }
}

diesel::table! {
    activity (id) {
        id -> Unsigned<BigInt>,
        at -> Unsigned<BigInt>,
        actor -> Varchar,
        tenant -> Nullable<Varchar>,
        action -> Varchar,
        subject -> Varchar,
        detail -> Text,
        tenant_id -> Nullable<Unsigned<BigInt>>,
        change_id -> Nullable<Binary>,
    }
}

diesel::table! {
    runs (id) {
        id -> Unsigned<BigInt>,
        kind -> Varchar,
        tenant -> Varchar,
        namespace -> Varchar,
        title -> Varchar,
        started_at -> Unsigned<BigInt>,
        ended_at -> Nullable<Unsigned<BigInt>>,
        state -> Varchar,
        result -> Text,
        tenant_id -> Nullable<Unsigned<BigInt>>,
    }
}

diesel::table! {
    definitions (id) {
        id -> Unsigned<BigInt>,
        kind -> Varchar,
        tenant_id -> Unsigned<BigInt>,
        name -> Varchar,
        content -> Text,
        created_at -> Unsigned<BigInt>,
        changed_at -> Unsigned<BigInt>,
    }
}

diesel::table! {
    run_work (run_id, part) {
        run_id -> Unsigned<BigInt>,
        part -> Unsigned<Integer>,
        content -> Binary,
    }
}

diesel::table! {
    run_failures (run_id, number) {
        run_id -> Unsigned<BigInt>,
        number -> Unsigned<Integer>,
        failed_key -> Text,
        reason -> Varchar,
    }
}

diesel::table! {
    run_samples (run_id, number) {
        run_id -> Unsigned<BigInt>,
        number -> Unsigned<Integer>,
        content -> Text,
    }
}

diesel::table! {
    schedule_slots (schedule_id, slot) {
        schedule_id -> Unsigned<BigInt>,
        slot -> Unsigned<BigInt>,
        taken_at -> Unsigned<BigInt>,
        state -> Varchar,
        run_id -> Nullable<Unsigned<BigInt>>,
        by_hand -> Bool,
        note -> Varchar,
    }
}

diesel::table! {
    hot_keys (namespace_id) {
        namespace_id -> Unsigned<BigInt>,
        noted_at -> Unsigned<BigInt>,
        hottest -> Text,
    }
}

diesel::joinable!(definitions -> tenants (tenant_id));
diesel::joinable!(origins -> tenants (tenant_id));
diesel::joinable!(namespaces -> tenants (tenant_id));
diesel::joinable!(namespaces -> origins (origin_id));
diesel::joinable!(runs -> tenants (tenant_id));
diesel::allow_tables_to_appear_in_same_query!(
    tenants,
    origins,
    namespaces,
    runs,
    definitions,
    run_work,
    run_samples
);

diesel::table! {
    shares (id) {
        id -> Unsigned<TinyInt>,
        owner -> Nullable<Binary>,
        epoch -> Unsigned<Integer>,
        confirmations -> Unsigned<BigInt>,
    }
}

diesel::table! {
    revisions (id) {
        id -> Unsigned<TinyInt>,
        number -> Unsigned<BigInt>,
    }
}
