//! The `verax` program: the command line, and the service that `serve` and `demo` start.
//!
//! * [`settings`] resolves the service's settings from file, environment and flags.
//! * [`start`] puts the service together: data directory, records, HTTP, load runs, demo.
//! * [`logging`] writes its log.
//!
//! Every other command is in the crate `verax_cli`, which knows nothing of the service.

mod logging;
mod settings;
mod start;

use std::process::ExitCode;
use std::time::Duration;

use verax_cli::{CommandLine, Failure};

/// How long the end of the process waits for work that blocks.
const SHUTDOWN_TIMEOUT: Duration = Duration::from_millis(500);

fn main() -> ExitCode {
    verax_service::set_up_allocator();
    match run(CommandLine::parse()) {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => {
            failure.tell();
            failure.exit_code()
        }
    }
}

fn run(line: CommandLine) -> Result<(), Failure> {
    // The service uses every core; a client command needs one.
    let mut builder = match line {
        CommandLine::Serve(_) | CommandLine::Demo(_) => tokio::runtime::Builder::new_multi_thread(),
        CommandLine::Client(_) => tokio::runtime::Builder::new_current_thread(),
    };
    let runtime = builder.enable_all().build().map_err(|e| Failure::failed(e.to_string()))?;
    let done = runtime.block_on(async {
        match line {
            CommandLine::Serve(options) => start::serve(*options).await,
            CommandLine::Demo(options) => start::demo(*options).await,
            CommandLine::Client(command) => command.run().await,
        }
    });
    // What still blocks a thread, as a hung file system does, does not hold up the end.
    runtime.shutdown_timeout(SHUTDOWN_TIMEOUT);
    done
}
