//! The way to an outlet, with addresses and tokens fetched from where they are kept.

use std::path::Path;
use std::sync::Arc;

use cledger_core::address::{Address, Owner};
use cledger_core::model::{
    self, Database, Given, HttpOutlet, Ledger, RowsOutlet, StageId, StageText, parts_of_table,
};
use cledger_core::resolve::{Fetched, Outside};
use cledger_outlets::reach::{ClientCertificate, HttpLogin, HttpReach, Reach, RowsReach, Sent};
use cledger_outlets::{OAuth, Trust};
use zeroize::Zeroizing;

use crate::reality::around::{Around, Tokens};
use crate::several::lock;

/// What the texts of a way are read with: whose they are, and where what does not stand in the ledger comes from.
#[derive(Clone)]
pub(crate) struct Reading<'l> {
    pub(crate) ledger: &'l Ledger,
    pub(crate) stage: StageId,
    folder: &'l Path,
    outside: &'l dyn Outside,
    trust: Trust,
    tokens: Tokens,
    /// Who works here.
    pub(crate) who: String,
}

impl<'l> Reading<'l> {
    pub(crate) fn of(ledger: &'l Ledger, stage: StageId, around: &Around<'l>) -> Self {
        let (folder, outside) = (around.ledger_folder, around.outside);
        let (trust, who) = (around.trust.clone(), around.who.clone());
        let tokens = Arc::clone(&around.tokens);
        Self { ledger, stage, folder, outside, trust, tokens, who }
    }

    /// The address of a service and the way there for a unit, or for all; the reason why there is none otherwise.
    pub(crate) fn http(&self, http: &HttpOutlet, owner: &Owner) -> Result<(String, Reach), String> {
        let url = self.given(&http.url, owner)?.to_string();
        let over_tls = url.starts_with("https://");
        if !over_tls && !url.starts_with("http://") {
            return Err("its `url` begins with neither http:// nor https://".to_owned());
        }
        let reach = HttpReach {
            over_tls,
            login: self.login(&http.login, owner)?,
            certificate: http.certificate.as_ref().map(|it| self.certificate(it, owner)).transpose()?,
            proxy: http.proxy.as_ref().map(|proxy| self.text(proxy, owner)).transpose()?,
            retries: http.retries,
            trust: self.trust.clone(),
        };
        Ok((url, Reach::Http(reach)))
    }

    /// The way to a table for a unit, or for all; the reason why there is none otherwise.
    pub(crate) fn rows(&self, rows: &RowsOutlet, owner: &Owner) -> Result<RowsReach, String> {
        let mut at = self.given(&rows.at, owner)?;
        if rows.database == Database::Sqlite {
            at = Zeroizing::new(self.folder.join(at.as_str()).display().to_string());
        }
        let table = rows.table.as_ref().map(|table| self.table(table, owner)).transpose()?;
        Ok(RowsReach {
            database: rows.database,
            at: Sent::new(at),
            password: self.secret(rows.password.as_ref(), owner)?,
            table: table.unwrap_or_default(),
            columns: rows.columns.clone(),
            trust: self.trust.clone(),
        })
    }

    /// Where the rows of a unit are, as the outlet says it: server, database and table, without a login.
    pub(super) fn place_of(&self, rows: &RowsOutlet, owner: &str) -> String {
        let owner = Address::parse(owner).ok().and_then(|address| address.owner).unwrap_or(Owner::Shared);
        let texts = [Some(rows.at.as_text()), rows.table.as_ref()].into_iter().flatten();
        let said = texts.map(|text| self.text(text, &owner).unwrap_or_default() + ", ");
        said.collect()
    }

    /// The parts of a table's name.
    pub(crate) fn table(&self, table: &StageText, owner: &Owner) -> Result<Vec<String>, String> {
        let table = self.text(table, owner)?;
        parts_of_table(&table).ok_or_else(|| format!("`{table}` names no table"))
    }

    /// A text with what it refers to.
    fn text(&self, text: &StageText, owner: &Owner) -> Result<String, String> {
        let text = text.expand_for(self.ledger, owner, self.stage);
        let text = text.map_err(|missing| format!("{missing}; give it one in ledger.toml"))?;
        Ok(text.into_owned())
    }

    /// What is shown at the door; a token that has to be fetched is the same for all who show the same for it.
    fn login(&self, login: &model::HttpLogin, owner: &Owner) -> Result<HttpLogin, String> {
        Ok(match login {
            model::HttpLogin::None => HttpLogin::None,
            model::HttpLogin::Bearer(token) => HttpLogin::Bearer(Sent::new(self.fetched_text(token, owner)?)),
            model::HttpLogin::Basic(user, password) => {
                HttpLogin::Basic(self.text(user, owner)?, Sent::new(self.fetched_text(password, owner)?))
            }
            model::HttpLogin::OAuth(oauth) => {
                let scope = oauth.scope.as_ref().map(|scope| self.text(scope, owner)).transpose()?;
                let (url, client) = (self.text(&oauth.url, owner)?, self.text(&oauth.client, owner)?);
                let source = self.text(&oauth.secret, owner)?;
                let key = format!("{url}\n{client}\n{source}\n{}", scope.as_deref().unwrap_or_default());
                let mut known = lock(&self.tokens);
                if let Some(known) = known.get(&key) {
                    return Ok(HttpLogin::OAuth(Arc::clone(known)));
                }
                let secret = Sent::new(self.fetched(&source)?);
                let oauth = Arc::new(OAuth::new(url, client, secret, scope, self.trust.clone()));
                known.insert(key, Arc::clone(&oauth));
                HttpLogin::OAuth(oauth)
            }
        })
    }

    /// The certificate that is shown, with its key.
    fn certificate(
        &self,
        certificate: &model::ClientCertificate,
        owner: &Owner,
    ) -> Result<ClientCertificate, String> {
        let chain = Sent::new(self.fetched_text(&certificate.chain, owner)?);
        Ok(ClientCertificate { chain, key: Sent::new(self.fetched_text(&certificate.key, owner)?) })
    }

    fn given(&self, given: &Given, owner: &Owner) -> Result<Zeroizing<String>, String> {
        let text = self.text(given.as_text(), owner)?;
        match given {
            Given::Text(_) => Ok(Zeroizing::new(text)),
            Given::From(_) => self.fetched(&text),
        }
    }

    fn secret(&self, source: Option<&StageText>, owner: &Owner) -> Result<Option<Sent>, String> {
        Ok(source.map(|source| self.fetched_text(source, owner)).transpose()?.map(Sent::new))
    }

    fn fetched_text(&self, source: &StageText, owner: &Owner) -> Result<Zeroizing<String>, String> {
        self.fetched(&self.text(source, owner)?)
    }

    fn fetched(&self, source: &str) -> Result<Zeroizing<String>, String> {
        match self.outside.fetch(source) {
            Fetched::Text(text) => Ok(text),
            Fetched::Nothing(reason) => Err(reason),
            Fetched::Unread => Err("nothing is fetched here".to_owned()),
            Fetched::NotTrusted => Err(format!("nobody has said that `{source}` may be read")),
        }
    }
}
