//! Queries that are sent, without what they are made of.
//!
//! A query of Diesel has its whole text in its type, and a future of one has it too: whoever holds such a future across an `await` has
//! the compiler look through it, in every crate again. What is given here says no more than what comes back.

use diesel::{QueryResult, dsl::Limit, query_dsl::methods::LimitDsl};
use diesel_async::{
    AsyncPgConnection,
    methods::{ExecuteDsl, LoadQuery},
};
use futures::{FutureExt, StreamExt, TryFutureExt, future::BoxFuture, stream::BoxStream};

/// The methods of Diesel's own trait of this name, with boxed futures.
pub trait RunQueryDsl: Sized + Send {
    /// Carries it out; gives the number of rows.
    fn execute<'q>(self, c: &'q mut AsyncPgConnection) -> BoxFuture<'q, QueryResult<usize>>
    where
        Self: ExecuteDsl<AsyncPgConnection> + 'q,
    {
        diesel_async::RunQueryDsl::execute(self, c)
    }

    /// Carries it out among others that are sent over the same connection without waiting for each other; gives the number of rows.
    fn pipe<'q>(self, mut c: &'q AsyncPgConnection) -> BoxFuture<'q, QueryResult<usize>>
    where
        Self: ExecuteDsl<&'q AsyncPgConnection> + 'q,
    {
        diesel_async::RunQueryDsl::execute(self, &mut c)
    }

    /// Gives all rows.
    fn load<'q, U>(self, c: &'q mut AsyncPgConnection) -> BoxFuture<'q, QueryResult<Vec<U>>>
    where
        U: Send + 'q,
        Self: LoadQuery<'q, AsyncPgConnection, U> + 'q,
    {
        Box::pin(diesel_async::RunQueryDsl::load(self, c))
    }

    /// Gives the rows as they come.
    fn load_stream<'q, U>(
        self,
        c: &'q mut AsyncPgConnection,
    ) -> BoxFuture<'q, QueryResult<BoxStream<'q, QueryResult<U>>>>
    where
        U: Send + 'q,
        Self: LoadQuery<'q, AsyncPgConnection, U> + 'q,
    {
        self.internal_load(c).map_ok(StreamExt::boxed).boxed()
    }

    /// Gives all rows of what is written.
    fn get_results<'q, U>(self, c: &'q mut AsyncPgConnection) -> BoxFuture<'q, QueryResult<Vec<U>>>
    where
        U: Send + 'q,
        Self: LoadQuery<'q, AsyncPgConnection, U> + 'q,
    {
        self.load(c)
    }

    /// Gives the first of the rows that come, or says that none is there.
    fn get_result<'q, U>(self, c: &'q mut AsyncPgConnection) -> BoxFuture<'q, QueryResult<U>>
    where
        U: Send + 'q,
        Self: LoadQuery<'q, AsyncPgConnection, U> + 'q,
    {
        Box::pin(diesel_async::RunQueryDsl::get_result(self, c))
    }

    /// Asks for one row, and gives it, or says that none is there.
    fn first<'q, U>(self, c: &'q mut AsyncPgConnection) -> BoxFuture<'q, QueryResult<U>>
    where
        U: Send + 'q,
        Self: LimitDsl,
        Limit<Self>: LoadQuery<'q, AsyncPgConnection, U> + Send + 'q,
    {
        LimitDsl::limit(self, 1).get_result(c)
    }
}

impl<Query: Send> RunQueryDsl for Query {}
