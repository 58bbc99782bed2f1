//! Statements that PostgreSQL prepares once for each connection, however often and with however many rows they are used.
//!
//! Diesel prepares what is written as plain SQL anew every time; these tell it that their text never changes. The rows are
//! handed over as arrays, a column each, for `unnest`.

/// Makes a type for a statement: the text before its arrays, the text after them, and a field for each array.
macro_rules! statement {
    (
        $(#[$meta:meta])*
        $name:ident = $before:expr, $after:expr;
        $first:ident: $first_sql:ty = $first_rust:ty $(, $field:ident: $sql:ty = $rust:ty)*
    ) => {
        $(#[$meta])*
        struct $name<'a> {
            $first: $first_rust,
            $($field: $rust,)*
            lifetime: std::marker::PhantomData<&'a ()>,
        }

        impl diesel::query_builder::QueryFragment<diesel::pg::Pg> for $name<'_> {
            fn walk_ast<'b>(
                &'b self,
                mut out: diesel::query_builder::AstPass<'_, 'b, diesel::pg::Pg>,
            ) -> diesel::QueryResult<()> {
                out.push_sql($before);
                out.push_bind_param::<$first_sql, _>(&self.$first)?;
                $(
                    out.push_sql(", ");
                    out.push_bind_param::<$sql, _>(&self.$field)?;
                )*
                out.push_sql($after);
                Ok(())
            }
        }

        impl diesel::query_builder::QueryId for $name<'_> {
            type QueryId = $name<'static>;
            const HAS_STATIC_QUERY_ID: bool = true;
        }
    };
}

pub(crate) use statement;
