using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Ports;
using Vestige.Web.Api.Describing;
using Vestige.Web.Api.Documents;
using Vestige.Web.Connections;

namespace Vestige.Web.Api;

/// <summary>The versions of sources' tables over HTTP.</summary>
internal static class SchemaVersionApi
{
    private const int MostVersions = 500;

    public static void Map(IEndpointRouteBuilder routes)
    {
        var group = routes.MapGroup("/api/v1/connections").WithTags("connections");
        group
            .MapGet("/{name}/schema-versions", ListAsync)
            .Describe(
                "listSchemaVersions",
                "Schema changes of the source's replicated tables, the latest noticed first, at most 500 at a time. find takes a part of a "
                    + "table's name; all also lists the first version of each table."
            )
            .Answers<SchemaVersionsDocument>()
            .Refuses(404, 422);
        group
            .MapGet("/{name}/schema-versions/{table}", OfTableAsync)
            .Describe("getSchemaVersions", "The versions of a table, schema.table, with their columns, the latest first.")
            .Answers<IReadOnlyList<SchemaVersionDocument>>()
            .Refuses(404);
        group
            .MapGet("/{name}/schema-history", HistoryOfAsync)
            .Describe("getSchemaHistory", "The versions of one table, given as table=schema.table, the latest first.")
            .Answers<IReadOnlyList<SchemaHistoryDocument>>()
            .Refuses(404);
    }

    private static async Task<IResult> ListAsync(
        string name,
        ConnectionDirectory connections,
        ISchemaVersionStore store,
        CancellationToken cancellation,
        string? find = null,
        bool all = false,
        int skip = 0,
        int limit = 100
    )
    {
        if (connections.Find(name) is null)
        {
            return Problems.NotFound($"connection {name}");
        }

        if (skip < 0 || limit is < 1 or > MostVersions)
        {
            return Problems.Of(
                422,
                "range",
                $"skip is {skip} and limit is {limit}.",
                $"Give skip from 0, and limit from 1 to {MostVersions}.",
                skip < 0 ? "skip" : "limit"
            );
        }

        var (versions, found) = await store.ListAsync(name, find?.Trim() ?? "", !all, skip, limit, cancellation);
        var format = connections.Source(name).Log.Format;
        return Results.Ok(new SchemaVersionsDocument(found, [.. versions.Select(version => SchemaVersionDocument.Of(version, format))]));
    }

    private static Task<IResult> OfTableAsync(
        string name,
        string table,
        ConnectionDirectory connections,
        ISchemaVersionStore store,
        CancellationToken cancellation
    ) => VersionsAsync(name, Views.Addresses.TableFrom(table), connections, store, SchemaVersionDocument.Of, cancellation);

    private static Task<IResult> HistoryOfAsync(
        string name,
        string table,
        ConnectionDirectory connections,
        ISchemaVersionStore store,
        CancellationToken cancellation
    ) => VersionsAsync(name, table, connections, store, SchemaHistoryDocument.Of, cancellation);

    private static async Task<IResult> VersionsAsync<T>(
        string name,
        string table,
        ConnectionDirectory connections,
        ISchemaVersionStore store,
        Func<SchemaVersion, Func<LogPosition, string>, T> document,
        CancellationToken cancellation
    )
    {
        if (connections.Find(name) is null)
        {
            return Problems.NotFound($"connection {name}");
        }

        var versions = await store.OfTableAsync(name, TableName.Parse(table), cancellation);
        var format = connections.Source(name).Log.Format;
        return versions.Count == 0
            ? Problems.NotFound($"version of table {table} in {name}")
            : Results.Ok(versions.Select(version => document(version, format)));
    }
}
