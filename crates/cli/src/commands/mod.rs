//! The commands that talk to a running Verax.

mod activity;
mod administration;
mod advice;
mod batches;
mod check;
mod counters;
mod damage;
mod drills;
mod entries;
mod find;
mod hot;
mod keys;
mod lifetimes;
mod load;
mod lock_holder;
mod locks;
mod memory;
mod origins;
mod rate_limits;
mod runs;
mod schedules;
mod sessions;
mod stand_in;
mod tags;
mod tenants;
mod under_lock;
mod usage;
mod warm;
mod watch;

use verax_client::{Client, ClientOptions};

use crate::arguments::{Command, Connection};
use crate::environment::environment;
use crate::failure::Failure;
use crate::output::Output;

/// The client that the arguments and the environment describe.
fn client(connection: &Connection) -> Result<Client, Failure> {
    let mut options = ClientOptions::default();
    if let Some(url) = connection.url.clone().or_else(|| environment("VERAX_URL")) {
        options.url = url;
    }
    options.ca = environment("VERAX_CA").map(Into::into);
    options.token = match &connection.token_file {
        Some(path) if path.as_os_str() == "-" => {
            Some(std::io::read_to_string(std::io::stdin())?.trim().into())
        }
        Some(path) => {
            let text = std::fs::read_to_string(path).map_err(|e| {
                Failure::usage(format!("the token file {} cannot be read: {e}", path.display()))
            })?;
            Some(text.into())
        }
        None => environment("VERAX_TOKEN").map(Into::into),
    };
    Ok(Client::new(options)?)
}

pub(crate) use load::piped_worker as piped_load_worker;

/// Carries a command out.
pub(crate) async fn run(command: Command, connection: &Connection) -> Result<(), Failure> {
    let verax = client(connection)?;
    let output = Output { json: connection.json };
    match command {
        Command::Serve(_) | Command::Demo(_) => {
            Err(Failure::failed("serve and demo are not client commands"))
        }
        Command::Get(options) => entries::get(&verax, output, options).await,
        Command::Put(options) => entries::put(&verax, output, options).await,
        Command::Delete(options) => entries::delete(&verax, output, options).await,
        Command::Lifetime(options) => lifetimes::change_lifetime(&verax, output, options).await,
        Command::Batch(options) => batches::batch(&verax, output, options).await,
        Command::Key(options) => keys::key(output, &options),
        Command::Tag(command) => tags::tag(&verax, output, command).await,
        Command::Counter(command) => counters::counter(&verax, output, command).await,
        Command::RateLimit(command) => rate_limits::rate_limit(&verax, output, command).await,
        Command::List(options) => entries::list(&verax, output, options).await,
        Command::Show(entry) => entries::show(&verax, output, entry).await,
        Command::Clear(options) => entries::clear(&verax, output, options).await,
        Command::Check(options) => check::check(&verax, output, options).await,
        Command::Find(options) => find::find(&verax, output, options).await,
        Command::Damage(command) => damage::damage(&verax, output, command).await,
        Command::Watch(options) => watch::watch(&verax, output, options).await,
        Command::Lock(command) => locks::lock(&verax, output, command).await,
        Command::Tenant(command) => tenants::tenant(&verax, output, command).await,
        Command::Namespace(command) => administration::namespace(&verax, output, command).await,
        Command::Origin(command) => origins::origin(&verax, output, command).await,
        Command::Token(command) => administration::token(&verax, output, command).await,
        Command::Warm(command) => warm::warm(&verax, output, command).await,
        Command::Schedule(command) => schedules::schedule(&verax, output, command).await,
        Command::Hot(options) => hot::hot(&verax, output, options).await,
        Command::Memory(command) => memory::memory(&verax, output, command).await,
        Command::Load(command) => load::load(&verax, output, command).await,
        Command::StandIn(command) => stand_in::stand_in(&verax, output, command).await,
        Command::Drill(command) => drills::drill(&verax, output, command).await,
        Command::Session(command) => sessions::session(&verax, output, command).await,
        Command::Node(command) => administration::node(&verax, output, command).await,
        Command::Usage(options) => usage::usage(&verax, output, options).await,
        Command::Activity(command) => activity::activity(&verax, output, command).await,
        Command::SignIn => administration::sign_in(&verax, output).await,
    }
}
