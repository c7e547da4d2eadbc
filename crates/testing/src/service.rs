//! The service in the process of a test.

use std::fmt;
use std::io;
use std::sync::Arc;
use std::time::Duration;

use futures_util::future::BoxFuture;
use tokio::io::duplex;
use tokio::sync::watch;
use verax_api::{CreateOrigin, PolicyChange};
use verax_client::{
    ByteStream, Cache, CacheOptions, Client, ClientError, ClientOptions, Connector,
};
use verax_control::ControlError;
use verax_control::access::Caller;
use verax_core::Name;
use verax_records::Records;
use verax_server::{WireLimits, serve_wire_stream};
use verax_service::{Service, ServiceOptions};

use crate::fault::Fault;
use crate::relay::{BUFFER, relay};

/// Why something about the service could not be set up.
#[derive(Debug, Clone, thiserror::Error)]
#[error("the service for tests: {0}")]
pub struct TestServiceError(String);

impl From<ControlError> for TestServiceError {
    fn from(error: ControlError) -> Self {
        Self(error.to_string())
    }
}

impl From<ClientError> for TestServiceError {
    fn from(error: ClientError) -> Self {
        Self(error.to_string())
    }
}

/// A Verax in the process of a test, which ends with this value.
pub struct TestService {
    service: Arc<Service>,
    administrator: Arc<Caller>,
    client: Client,
    faults: Arc<watch::Sender<Option<Fault>>>,
}

impl fmt::Debug for TestService {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("TestService").field("fault", &*self.faults.borrow()).finish_non_exhaustive()
    }
}

/// Opens streams to the service through a relay with the faults.
struct InProcess {
    service: Arc<Service>,
    faults: Arc<watch::Sender<Option<Fault>>>,
}

impl fmt::Debug for InProcess {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the service for tests")
    }
}

impl Connector for InProcess {
    fn connect(&self) -> BoxFuture<'_, io::Result<Box<dyn ByteStream>>> {
        Box::pin(async {
            let faults = self.faults.subscribe();
            if *faults.borrow() == Some(Fault::Unreachable) {
                let refused = io::ErrorKind::ConnectionRefused;
                return Err(io::Error::new(refused, "the test made it unreachable"));
            }
            let ((client, near), (far, server)) = (duplex(BUFFER), duplex(BUFFER));
            let limits = WireLimits::default();
            tokio::spawn(serve_wire_stream(server, Arc::clone(&self.service), limits));
            tokio::spawn(relay(near, far, faults));
            Ok(Box::new(client) as Box<dyn ByteStream>)
        })
    }
}

impl TestService {
    /// Starts a service without tenants. It belongs to the current Tokio runtime; for virtual time,
    /// start that with a paused clock: `#[tokio::test(start_paused = true)]`.
    ///
    /// # Errors
    /// [`TestServiceError`].
    pub async fn start() -> Result<Self, TestServiceError> {
        let service = Service::start(Records::in_memory(), ServiceOptions::default()).await?;
        let token = service.control().new_administrator_token().await?;
        let administrator = service.control().token_caller(&token)?;
        let faults = Arc::new(watch::Sender::new(None));
        let client = client_of(&service, &faults, token)?;
        Ok(Self { service, administrator, client, faults })
    }

    /// Creates a namespace, and its tenant if there is none of that name.
    ///
    /// # Errors
    /// [`TestServiceError`] if a name or the policy is not valid, or it exists already.
    pub async fn create_namespace(
        &self,
        tenant: &str,
        namespace: &str,
        policy: PolicyChange,
    ) -> Result<(), TestServiceError> {
        let name = self.tenant(tenant).await?;
        let (control, administrator) = (self.service.control(), &*self.administrator);
        control.create_namespace(administrator, &name, namespace, &policy).await?;
        Ok(())
    }

    /// Creates an origin, which is an HTTP service of the test, and its tenant if there is none of
    /// that name.
    ///
    /// # Errors
    /// [`TestServiceError`] if a name or the settings are not valid, or it exists already.
    pub async fn create_origin(
        &self,
        tenant: &str,
        origin: &CreateOrigin,
    ) -> Result<(), TestServiceError> {
        let name = self.tenant(tenant).await?;
        self.service.control().create_origin(&self.administrator, &name, origin).await?;
        Ok(())
    }

    async fn tenant(&self, tenant: &str) -> Result<Name, TestServiceError> {
        let name = Name::new(tenant).map_err(|error| TestServiceError(error.to_string()))?;
        match self.service.control().create_tenant(&self.administrator, tenant).await {
            Ok(_) | Err(ControlError::Conflict(_)) => Ok(name),
            Err(error) => Err(error.into()),
        }
    }

    /// A handle on a namespace, as the application uses it in production.
    ///
    /// # Errors
    /// [`TestServiceError`] if a name is not valid.
    pub fn cache(
        &self,
        tenant: &str,
        namespace: &str,
        options: CacheOptions,
    ) -> Result<Cache, TestServiceError> {
        Ok(self.client.cache(tenant, namespace, options)?)
    }

    /// A client with a new token, which has these scopes, such as `read:ferrydesk`; and the number
    /// to [revoke](Self::revoke) it by. It has the wire protocol only.
    ///
    /// # Errors
    /// [`TestServiceError`] if a scope is not valid.
    pub async fn client_with(&self, scopes: &[&str]) -> Result<(Client, u64), TestServiceError> {
        let scopes: Vec<String> = scopes.iter().map(|scope| (*scope).to_owned()).collect();
        let control = self.service.control();
        let created = control
            .create_token(&self.administrator, &verax_api::CreateToken::new(&scopes, "a test"))
            .await?;
        Ok((client_of(&self.service, &self.faults, created.secret)?, created.token.id))
    }

    /// Revokes the token of a client.
    ///
    /// # Errors
    /// [`TestServiceError`] if there is none of this number.
    pub async fn revoke(&self, token: u64) -> Result<(), TestServiceError> {
        Ok(self.service.control().revoke_token(&self.administrator, token).await?)
    }

    /// Begins a fault, in place of the present one, for open and for new connections.
    pub fn set_fault(&self, fault: Fault) {
        self.faults.send_replace(Some(fault));
    }

    /// Ends the fault. What it held back arrives now.
    pub fn heal(&self) {
        self.faults.send_replace(None);
    }

    /// Loses every entry of every namespace, as a cache may at any time.
    pub fn lose_entries(&self) {
        self.service.control().lose_entries();
    }

    /// Passes virtual time, for the service and for clients.
    ///
    /// # Panics
    /// Unless the runtime's clock is paused: see [`start`](Self::start).
    pub async fn advance(&self, time: Duration) {
        tokio::time::advance(time).await;
    }
}

impl Drop for TestService {
    fn drop(&mut self) {
        self.service.stop();
    }
}

fn client_of(
    service: &Arc<Service>,
    faults: &Arc<watch::Sender<Option<Fault>>>,
    token: String,
) -> Result<Client, TestServiceError> {
    let (service, faults) = (Arc::clone(service), Arc::clone(faults));
    let connector: Arc<dyn Connector> = Arc::new(InProcess { service, faults });
    let options = ClientOptions {
        connector: Some(connector),
        token: Some(token.into()),
        ..ClientOptions::default()
    };
    Ok(Client::new(options)?)
}
