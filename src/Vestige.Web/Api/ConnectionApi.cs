using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Commands;
using Vestige.Engine.Ports;
using Vestige.Web.Api.Describing;
using Vestige.Web.Api.Documents;
using Vestige.Web.Connections;
using Vestige.Web.Views;

namespace Vestige.Web.Api;

/// <summary>Connections over HTTP.</summary>
public static class ConnectionApi
{
    private const int MostTables = 500;

    public static void Map(IEndpointRouteBuilder routes)
    {
        var group = routes.MapGroup("/api/v1/connections").WithTags("connections");
        group
            .MapGet("/", (ConnectionDirectory connections) => connections.All.Select(View))
            .Describe("listConnections", "All connections.")
            .Answers<IReadOnlyList<ConnectionDocument>>();
        group
            .MapGet("/{name}", (string name, ConnectionDirectory connections) =>
                connections.Find(name) is { } found ? Results.Ok(View(found)) : Problems.NotFound($"connection {name}")
            )
            .Describe("getConnection", "One connection. Its secret is never read back.")
            .Answers<ConnectionDocument>()
            .Refuses(404);
        group
            .MapPost("/", SaveNewAsync)
            .Describe("createConnection", "Saves a new connection.")
            .Answers<ConnectionDocument>(201)
            .Refuses(409, 422);
        group
            .MapPut("/{name}", SaveAsync)
            .Describe(
                "changeConnection",
                "Changes a connection. Where running crossings use it, confirm=true pauses them, tests the new settings and resumes "
                    + "them. Where a setting says to whom the secret goes, as host, port, user and encryption do, a new value needs the "
                    + "secret again."
            )
            .Answers<ConnectionDocument>()
            .Refuses(404, 409, 422, 424);
        group
            .MapDelete("/{name}", RemoveAsync)
            .Describe("deleteConnection", "Deletes a connection that no crossing names.")
            .Produces(204)
            .Refuses(404, 409);
        group
            .MapPost("/{name}/test", TestAsync)
            .Describe(
                "testConnection",
                "Tests each hop of the connection: name, network, TLS, sign-in, database, rights. Ends at the first that fails."
            )
            .Answers<IReadOnlyList<ReadinessView>>()
            .Refuses(404, 424);
        group
            .MapGet("/{name}/readiness", ReadinessAsync)
            .Describe("getReadiness", "What must hold so that the database can be a source or a target.")
            .Answers<IReadOnlyList<ReadinessView>>()
            .Refuses(404, 422, 424);
        group
            .MapGet("/{name}/preparation", PreparationAsync)
            .Describe("getPreparation", "The script that a DBA runs so that the database can be a source or a target, and its undo.")
            .Answers<PreparationDocument>()
            .Refuses(404, 422, 424);
        routes.MapGet("/connections/{name}/preparation.sql", ScriptAsync).ExcludeFromDescription();
        group
            .MapGet("/{name}/tables", TablesAsync)
            .Describe(
                "listTables",
                "The tables of the database, by name. At most 500 at a time; after takes the last name, schema.table, of the page before."
            )
            .Answers<IReadOnlyList<TableDocument>>()
            .Refuses(404, 424);
        group
            .MapGet("/{name}/rows", RowsAsync)
            .Describe("sampleRows", "Some rows of a table, read now and not kept. Of masked columns only type and length are shown.")
            .Answers<RowsDocument>()
            .Refuses(404, 424);
        routes
            .MapGet("/api/v1/connection-kinds", (ConnectionDirectory connections) => connections.Kinds.Select(ConnectionKindDocument.Of))
            .WithTags("connections")
            .Describe("listConnectionKinds", "The kinds of connection, with their settings and what they can do.")
            .Answers<IReadOnlyList<ConnectionKindDocument>>();
    }

    private static ConnectionDocument View(ConnectionDefinition connection) =>
        new ConnectionDocument(
            Name: connection.Name,
            Kind: connection.Kind,
            Settings: connection.Settings,
            HasSecret: connection.HasSecret
        );

    private static async Task<IResult> SaveNewAsync(ConnectionBody body, ConnectionDirectory connections, CancellationToken cancellation) =>
        connections.Find(body.Name) is not null
            ? Problems.Of(409, "exists", $"There is a connection {body.Name} already.", "Choose another name, or PUT to change it.", "name")
            : await KeepAsync(body, connections, created: true, cancellation);

    private static async Task<IResult> SaveAsync(
        string name,
        ConnectionBody body,
        ConnectionDirectory connections,
        ConnectionChange change,
        CrossingEngine engine,
        HttpContext context,
        CancellationToken cancellation,
        bool confirm = false
    )
    {
        if (connections.Find(name) is null)
        {
            return Problems.NotFound($"connection {name}");
        }

        if (body.Name != name)
        {
            return Problems.Of(422, "definition", "The name differs from the one in the path.", "A connection cannot be renamed.", "name");
        }

        if (RunningUsersOf(name, engine) is not { Count: > 0 } running)
        {
            return await KeepAsync(body, connections, created: false, cancellation);
        }

        if (!confirm)
        {
            return Problems.Of(
                409,
                "in-use",
                $"{name} is used by {string.Join(", ", running)}, running.",
                "Add ?confirm=true: Vestige pauses them and they resume with the new settings. Or pause them first.",
                "name"
            );
        }

        var changed = new ConnectionDefinition(body.Name, body.Kind, body.Settings ?? [], body.Secret is not null);
        if (connections.Check(changed, body.SecretText) is { Count: > 0 } problems)
        {
            return Problems.Definition(problems);
        }

        var failed = (await change.TestAsync(changed, body.SecretText, cancellation)).FirstOrDefault(line => !line.Ok);
        if (failed is not null)
        {
            return Problems.Of(
                409,
                "not-ready",
                $"{failed.Step}: {failed.Found}. Nothing was changed.",
                failed.Remedy ?? "Correct the settings.",
                "settings"
            );
        }

        await change.ApplyAsync(changed, body.SecretText, Who.Of(context), cancellation);
        return Results.Ok(View(connections.Find(name) ?? changed));
    }

    private static async Task<IResult> KeepAsync(
        ConnectionBody body,
        ConnectionDirectory connections,
        bool created,
        CancellationToken cancellation
    )
    {
        var connection = new ConnectionDefinition(body.Name, body.Kind, body.Settings ?? [], body.Secret is not null);
        var problems = connections.Check(connection, body.SecretText);
        if (problems.Count > 0)
        {
            return Problems.Definition(problems);
        }

        await connections.SaveAsync(connection, body.SecretText, cancellation, isNew: created);
        return created
            ? Results.Created($"/api/v1/connections/{body.Name}", View(connections.Find(body.Name) ?? connection))
            : Results.Ok(View(connections.Find(body.Name) ?? connection));
    }

    private static async Task<IResult> RemoveAsync(
        string name,
        ConnectionDirectory connections,
        CrossingEngine engine,
        CancellationToken cancellation
    )
    {
        if (connections.Find(name) is null)
        {
            return Problems.NotFound($"connection {name}");
        }

        await engine.AmongDefinitionsAsync(() => connections.RemoveAsync(name, UsersOf(name, engine), cancellation), cancellation);
        return Results.NoContent();
    }

    /// <summary>The crossings that name a connection.</summary>
    public static IReadOnlyList<string> UsersOf(string connection, CrossingEngine engine)
    {
        ArgumentNullException.ThrowIfNull(engine);
        return
        [
            .. engine
                .Statuses.Where(status => status.Definition.Source == connection || status.Definition.Target == connection)
                .Select(status => status.Name),
        ];
    }

    /// <summary>The crossings that name a connection and run, or try to.</summary>
    public static IReadOnlyList<string> RunningUsersOf(string connection, CrossingEngine engine) =>
        [
            .. UsersOf(connection, engine)
                .Where(name =>
                    engine.Status(name)?.State
                        is Core.Crossings.CrossingState.Checking
                            or Core.Crossings.CrossingState.Loading
                            or Core.Crossings.CrossingState.CatchingUp
                            or Core.Crossings.CrossingState.Following
                ),
        ];

    private static async Task<IResult> TestAsync(string name, ConnectionDirectory connections, CancellationToken cancellation) =>
        connections.Find(name) is null
            ? Problems.NotFound($"connection {name}")
            : Results.Ok((await connections.Source(name).Probe.TestAsync(cancellation)).Select(ReadinessView.Of));

    private static async Task<IResult> ReadinessAsync(
        string name,
        [Choices("source", "target")] string role,
        ConnectionDirectory connections,
        CancellationToken cancellation
    )
    {
        if (connections.Find(name) is null)
        {
            return Problems.NotFound($"connection {name}");
        }

        if (role is not ("source" or "target"))
        {
            return Problems.Of(422, "definition", $"'{role}' is not a role.", "Use source or target.", "role");
        }

        var lines = (await connections.Source(name).Probe.TestAsync(cancellation)).ToList();
        if (lines.TrueForAll(line => line.Ok))
        {
            lines.AddRange(
                role == "source"
                    ? await connections.Source(name).Log.CheckSourceAsync([], cancellation)
                    : await connections
                        .Target(name)
                        .Target.CheckTargetAsync([], new Dictionary<TableName, ExistingRows>(), new HashSet<TableName>(), cancellation)
            );
        }

        return Results.Ok(lines.Select(ReadinessView.Of));
    }

    /// <summary>The script as a file, its undo or its optional part; of the tables that a crossing takes where one is named.</summary>
    private static async Task<IResult> ScriptAsync(
        string name,
        string role,
        ConnectionDirectory connections,
        CrossingEngine engine,
        CancellationToken cancellation,
        bool undo = false,
        bool optional = false,
        string? crossing = null
    )
    {
        if (
            connections.Find(name) is null
            || connections.Find<IPreparation>(name) is not { } preparable
            || role is not ("source" or "target")
        )
        {
            return Problems.NotFound($"preparation script for {name}");
        }

        var rules = crossing is null ? null : engine.Status(crossing)?.Definition.Tables;
        var tables =
            role == "target"
                ? []
                : (await connections.Source(name).Catalogue.ReadTablesAsync(cancellation))
                    .Where(table => (table.Crosses || table.InsertsCross) && rules?.Takes(table.Schema.Name) != false)
                    .Select(table => table.Schema.Name)
                    .ToList();
        var made =
            role == "source"
                ? await preparable.PrepareSourceAsync(tables, cancellation)
                : await preparable.PrepareTargetAsync(cancellation);
        var (text, part) =
            undo ? (made.Undo, "-undo")
            : optional ? (made.Optional, "-schema-changes")
            : (made.Script, "");
        return text is null
            ? Problems.NotFound($"optional part of the preparation script for {name}")
            : Results.File(System.Text.Encoding.UTF8.GetBytes(text), "application/sql", $"{name}-{role}{part}.sql");
    }

    private static async Task<IResult> PreparationAsync(
        string name,
        [Choices("source", "target")] string role,
        ConnectionDirectory connections,
        CancellationToken cancellation,
        string? find = null
    )
    {
        if (connections.Find(name) is null)
        {
            return Problems.NotFound($"connection {name}");
        }

        if (connections.Find<IPreparation>(name) is not { } preparable)
        {
            return Problems.NotFound($"preparation for {name}, which needs none");
        }

        if (role is not ("source" or "target"))
        {
            return Problems.Of(422, "definition", $"'{role}' is not a role.", "Use source or target.", "role");
        }

        var tables =
            role == "target"
                ? []
                : (await connections.Source(name).Catalogue.ReadTablesAsync(cancellation))
                    .Where(table =>
                        (table.Crosses || table.InsertsCross)
                        && (find is null || table.Schema.Name.ToString().Contains(find, StringComparison.OrdinalIgnoreCase))
                    )
                    .Select(table => table.Schema.Name)
                    .ToList();
        var made =
            role == "source"
                ? await preparable.PrepareSourceAsync(tables, cancellation)
                : await preparable.PrepareTargetAsync(cancellation);
        return Results.Ok(
            new PreparationDocument(Script: made.Script, Undo: made.Undo, NeedsRestart: made.NeedsRestart, Optional: made.Optional)
        );
    }

    private static async Task<IResult> TablesAsync(
        string name,
        ConnectionDirectory connections,
        CancellationToken cancellation,
        string? find = null,
        string? after = null,
        int limit = 100
    )
    {
        if (connections.Find(name) is null)
        {
            return Problems.NotFound($"connection {name}");
        }

        var tables = await connections.Source(name).Catalogue.ReadTablesAsync(cancellation);
        return Results.Ok(
            tables
                .Where(table => find is null || table.Schema.Name.ToString().Contains(find, StringComparison.OrdinalIgnoreCase))
                .Where(table => after is null || string.CompareOrdinal(table.Schema.Name.ToString(), after) > 0)
                .OrderBy(table => table.Schema.Name)
                .Take(Math.Clamp(limit, 1, MostTables))
                .Select(View)
        );
    }

    private static async Task<IResult> RowsAsync(
        string name,
        string table,
        ConnectionDirectory connections,
        CrossingEngine engine,
        CancellationToken cancellation,
        int limit = 20
    )
    {
        if (connections.Find(name) is null)
        {
            return Problems.NotFound($"connection {name}");
        }

        var source = connections.Source(name);
        if (
            (await source.Catalogue.ReadTablesAsync(cancellation))
                .FirstOrDefault(candidate => candidate.Schema.Name.ToString() == table)
                ?.Schema
            is not { } form
        )
        {
            return Problems.NotFound($"table {table} in {name}");
        }

        var rows = await source.Lookup.SampleRowsAsync(form, Math.Clamp(limit, 1, MostTables), cancellation);
        var masked = engine.Trace.MaskedColumns(name, form);
        return Results.Ok(
            new RowsDocument(
                Columns: [.. form.Columns.Select(column => column.Name)],
                Rows: [.. rows.Select(row => Shown(row, form, masked))]
            )
        );
    }

    private static List<string?> Shown(Row row, TableSchema form, IReadOnlySet<string> masked) =>
        [
            .. Enumerable
                .Range(0, row.Count)
                .Select(i =>
                    row.KindAt(i) == ValueKind.Null ? null
                    : masked.Contains(form.Columns[i].Name) ? Treating.BeforeAfter.Hidden(row, i, form.Columns[i].Type)
                    : row.DisplayAt(i)
                ),
        ];

    private static TableDocument View(TableDescription table) =>
        new TableDocument(
            Schema: table.Schema.Name.Schema,
            Table: table.Schema.Name.Name,
            EstimatedRows: table.EstimatedRows,
            Bytes: table.Bytes,
            Key: [.. table.Schema.KeyOrdinals.Select(i => table.Schema.Columns[i].Name)],
            Columns:
            [
                .. table.Schema.Columns.Select(column => new ColumnDocument(
                    Name: column.Name,
                    Type: column.Type,
                    Nullable: column.Nullable,
                    Crosses: !column.Generated,
                    Reason: column.Generated ? "the database computes it" : null
                )),
            ],
            Crosses: table.Crosses,
            Reason: table.Reason,
            InsertsCross: table.Crosses || table.InsertsCross,
            PartOf: table.PartOf?.ToString()
        );
}
