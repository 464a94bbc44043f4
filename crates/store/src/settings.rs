//! House settings and counters.

use mostra_core::Moment;

use sea_orm::sea_query::OnConflict;
use sea_orm::{
    ActiveValue::Set, ConnectionTrait, EntityTrait, FromQueryResult, Statement, TransactionTrait,
};
use serde::de::DeserializeOwned;

use crate::accounts::millis;
use crate::entity::setting;
use crate::{Records, StoreError};

/// A number that never goes back, also over restarts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Counter {
    /// Serials of directories and files, of which object ids are made.
    Serial,
    /// Numbers of folders.
    Folder,
    /// The house's update id.
    UpdateId,
    /// Starts of the service.
    Boot,
}

impl Counter {
    /// Whether the number after the largest is 0, as the standards have it for what only has to
    /// differ from before; other numbers name something for ever.
    fn goes_round(self) -> bool {
        matches!(self, Counter::UpdateId | Counter::Boot)
    }

    fn name(self) -> &'static str {
        match self {
            Counter::Serial => "serial",
            Counter::Folder => "folder",
            Counter::UpdateId => "update_id",
            Counter::Boot => "boot",
        }
    }
}

/// The latest time that was noted, in Unix milliseconds.
const LATEST: &str = "latest_ms";

#[derive(FromQueryResult)]
struct SettingValue {
    value: i64,
}

impl Records {
    /// A setting's value.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn setting(&self, name: &str) -> Result<Option<String>, StoreError> {
        let found = setting::Entity::find_by_id(name.to_owned()).one(&self.database).await?;
        Ok(found.map(|s| s.value))
    }

    /// Sets a setting, committed.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn set_setting(&self, name: &str, value: &str) -> Result<(), StoreError> {
        set(&self.database, name, value).await
    }

    /// A setting's value, which is JSON. One that cannot be read is none, and its text is kept under
    /// another name, as the next value takes its place.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn json_setting<T: DeserializeOwned>(
        &self,
        name: &str,
    ) -> Result<Option<T>, StoreError> {
        let Some(text) = self.setting(name).await?.filter(|text| !text.is_empty()) else {
            return Ok(None);
        };
        let read = self.unread.pass_over(|| format!("setting {name}"), serde_json::from_str(&text));
        if read.is_none() {
            self.set_setting(&format!("unread:{name}"), &text).await?;
        }
        Ok(read)
    }

    /// Sets several settings, all or none, committed.
    ///
    /// # Errors
    /// [`StoreError`] when they were not saved; then none of them is.
    pub async fn set_settings(&self, settings: &[(&str, &str)]) -> Result<(), StoreError> {
        let transaction = self.database.begin().await?;
        for (name, value) in settings {
            set(&transaction, name, value).await?;
        }
        transaction.commit().await?;
        Ok(())
    }

    /// A setting's value; where there is none, `first` becomes it.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn setting_or(&self, name: &str, first: &str) -> Result<String, StoreError> {
        match self.setting(name).await? {
            Some(value) => Ok(value),
            None => {
                self.set_setting(name, first).await?;
                Ok(first.to_owned())
            }
        }
    }

    /// Takes `count` numbers from a counter, committed before they are used: gives the first.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn reserve(&self, counter: Counter, count: u32) -> Result<u32, StoreError> {
        let statement = Statement::from_sql_and_values(
            self.database.get_database_backend(),
            "insert into counter (name, value) values ($1, $2)
             on conflict (name) do update set value = counter.value + $2 returning value",
            [counter.name().into(), i64::from(count).into()],
        );
        let row = SettingValue::find_by_statement(statement).one(&self.database).await?;
        let after = row.ok_or_else(|| StoreError::Damaged("a counter gave nothing".into()))?.value;
        let first = after - i64::from(count) + 1;
        if counter.goes_round() {
            return Ok(first as u32);
        }
        u32::try_from(first).map_err(|_| StoreError::Damaged("a counter has run out".into()))
    }

    /// Notes that it is this late, so that a clock that is set back revives nothing.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn note_time(&self, now: Moment) -> Result<(), StoreError> {
        self.set_setting(LATEST, &millis(now).to_string()).await
    }

    /// The latest time that was noted.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn latest_time(&self) -> Result<Moment, StoreError> {
        let latest = self.setting(LATEST).await?.and_then(|text| text.parse().ok());
        Ok(Moment::from_millis(latest.unwrap_or(0)))
    }
}

async fn set(connection: &impl ConnectionTrait, name: &str, value: &str) -> Result<(), StoreError> {
    let model = setting::ActiveModel { name: Set(name.to_owned()), value: Set(value.to_owned()) };
    let replace =
        OnConflict::column(setting::Column::Name).update_column(setting::Column::Value).to_owned();
    setting::Entity::insert(model).on_conflict(replace).exec_without_returning(connection).await?;
    Ok(())
}
