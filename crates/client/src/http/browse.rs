//! A look inside a namespace: listings, samples and searches.

use verax_api::{
    EntryPage, EntrySummary, LifetimeAdvice, MemoryCurve, Removal, SearchRequest, SearchStep,
};

use crate::error::ClientError;
use crate::http::entries::Namespace;

/// Which entries to list, and how.
#[derive(Debug, Clone, Default)]
pub struct ListOptions {
    /// Only keys that start with this.
    pub prefix: String,
    /// Only entries with this tag.
    pub tag: Option<String>,
    /// Only entries in this state: `fresh`, `ends-soon` or `stale`.
    pub state: Option<String>,
    /// The first of a bounded sample in this order: `largest`, `smallest`, `oldest`, `newest`,
    /// `ends-first` or `ends-last`.
    pub order: Option<String>,
    /// Where to continue, from the previous page.
    pub cursor: Option<String>,
    /// The most entries on the page; 100 when absent.
    pub limit: Option<usize>,
}

impl Namespace {
    /// Lists a page of the entries whose keys start with `prefix`, from `cursor` on.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn list(
        &self,
        prefix: &str,
        cursor: Option<&str>,
        most: usize,
    ) -> Result<EntryPage, ClientError> {
        let (prefix, cursor) = (prefix.to_owned(), cursor.map(str::to_owned));
        let options = ListOptions { prefix, cursor, limit: Some(most), ..ListOptions::default() };
        self.list_with(&options).await
    }

    /// Lists entries with options.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn list_with(&self, options: &ListOptions) -> Result<EntryPage, ClientError> {
        let mut url = self.below(&["entries"]);
        {
            let mut query = url.query_pairs_mut();
            query.append_pair("prefix", &options.prefix);
            let texts = [
                ("tag", &options.tag),
                ("state", &options.state),
                ("order", &options.order),
                ("cursor", &options.cursor),
            ];
            for (name, text) in texts {
                if let Some(text) = text {
                    query.append_pair(name, text);
                }
            }
            if let Some(most) = options.limit {
                query.append_pair("limit", &most.to_string());
            }
        }
        self.client().get(url).await
    }

    /// Peeks at one entry, as a listing shows it; `None` if there is none.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn show(&self, key: &str) -> Result<Option<EntrySummary>, ClientError> {
        let mut url = self.below(&["entries"]);
        url.query_pairs_mut().append_pair("key", key);
        Ok(self.client().get::<EntryPage>(url).await?.items.into_iter().next())
    }

    /// One step of a search by a JSONPath query.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn search(&self, request: &SearchRequest) -> Result<SearchStep, ClientError> {
        self.client().post(self.below(&["searches"]), request).await
    }

    /// Advice on the namespace's max-age, from what was observed of its reads.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn lifetime_advice(&self) -> Result<LifetimeAdvice, ClientError> {
        self.client().get(self.below(&["lifetime-advice"])).await
    }

    /// What other amounts of memory would mean for the namespace's hit ratio.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn memory_curve(&self) -> Result<MemoryCurve, ClientError> {
        self.client().get(self.below(&["memory-curve"])).await
    }

    /// Counts the entries that [`clear`](Self::clear), or with a prefix
    /// [`clear_prefix`](Self::clear_prefix), would remove.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn count_clear(&self, prefix: Option<&str>) -> Result<u64, ClientError> {
        let mut url = self.below(&["entries"]);
        if let Some(prefix) = prefix {
            url.query_pairs_mut().append_pair("prefix", prefix);
        }
        self.count_at(url).await
    }

    /// Counts the entries that [`invalidate_tag`](Self::invalidate_tag) would remove.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn count_tag(&self, tag: &str) -> Result<u64, ClientError> {
        self.count_at(self.of_key("tags", tag)?).await
    }

    async fn count_at(&self, mut url: url::Url) -> Result<u64, ClientError> {
        url.query_pairs_mut().append_pair("dry_run", "true");
        let request = self.client().request(reqwest::Method::DELETE, url);
        let response = self.client().send(request).await?;
        Ok(self.client().json::<Removal>(response).await?.entries)
    }
}
