//! Walkthroughs of devices.

use sea_orm_migration::prelude::*;

pub(super) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &str {
        "m0011_walkthroughs"
    }
}

const UP: &str = r#"
create table walkthrough (
    id bigint primary key,
    device_id bigint not null references device (id) on delete cascade,
    started_ms bigint not null,
    finished_ms bigint,
    noted jsonb not null
);
create index walkthrough_device on walkthrough (device_id, started_ms desc);
"#;

#[async_trait::async_trait]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(UP).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared("drop table walkthrough").await?;
        Ok(())
    }
}
