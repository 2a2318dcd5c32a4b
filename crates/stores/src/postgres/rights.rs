//! The least rights that loading needs, and which of them are missing.

use tokio_postgres::{Client, Error};

use crate::sql::quote;

/// The GRANT statements that are missing, for tables that are there; and for those that are not,
/// the right to make them.
pub async fn missing(
    client: &Client,
    schema: &str,
    user: &str,
    on: &[(String, &'static [&'static str])],
) -> Result<Vec<String>, Error> {
    let mut grants = Vec::new();
    let (schema_name, user_name) = (quote(schema), quote(user));
    let row = client
        .query_one(
            "SELECT EXISTS (SELECT FROM pg_namespace WHERE nspname = $1),
                    has_database_privilege(current_database(), 'CREATE'), has_database_privilege(current_database(), 'TEMP'),
                    current_database()::text",
            &[&schema],
        )
        .await?;
    let (there, may_make, may_stage, database): (bool, bool, bool, String) =
        (row.get(0), row.get(1), row.get(2), row.get(3));
    let database = quote(&database);
    if !may_stage {
        grants.push(format!("GRANT TEMPORARY ON DATABASE {database} TO {user_name};"));
    }
    if !there {
        if !may_make {
            grants.push(format!("CREATE SCHEMA {schema_name} AUTHORIZATION {user_name};"));
        }
        return Ok(grants);
    }
    let row = client
        .query_one("SELECT has_schema_privilege($1, 'USAGE'), has_schema_privilege($1, 'CREATE')", &[&schema])
        .await?;
    let (may_use, may_create): (bool, bool) = (row.get(0), row.get(1));
    let (on_tables, wants_create) = missing_on_tables(client, schema, user, on).await?;
    let mut on_schema = Vec::new();
    if !may_use {
        on_schema.push("USAGE");
    }
    if !may_create && wants_create {
        on_schema.push("CREATE");
    }
    if !on_schema.is_empty() {
        grants.push(format!("GRANT {} ON SCHEMA {schema_name} TO {user_name};", on_schema.join(", ")));
    }
    grants.extend(on_tables);
    Ok(grants)
}

/// The rights that are missing on tables that are there, and whether some are not.
async fn missing_on_tables(
    client: &Client,
    schema: &str,
    user: &str,
    on: &[(String, &'static [&'static str])],
) -> Result<(Vec<String>, bool), Error> {
    let (schema_name, user_name) = (quote(schema), quote(user));
    let mut wants_create = false;
    let mut on_tables = Vec::new();
    for (name, rights) in on {
        let qualified = format!("{schema_name}.{}", quote(name));
        let row = client
            .query_one(
                "SELECT max(c.oid) IS NOT NULL,
                   ARRAY(SELECT r FROM unnest($3::text[]) r WHERE max(c.oid) IS NOT NULL AND NOT has_table_privilege(max(c.oid), r))
                 FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2",
                &[&schema, name, rights],
            )
            .await?;
        let (there, lacking): (bool, Vec<String>) = (row.get(0), row.get(1));
        wants_create |= !there;
        if !lacking.is_empty() {
            on_tables.push(format!("GRANT {} ON {qualified} TO {user_name};", lacking.join(", ")));
        }
    }
    Ok((on_tables, wants_create))
}
