using Vestige.Connectors.StandIn.Bench;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Supervision;
using Vestige.Web.Connections;
using Vestige.Web.Views;

namespace Vestige.Web.Api;

/// <summary>Connections and the bench over HTTP.</summary>
public static class ConnectionApi
{
    private const int MostTables = 500;

    public static void Map(IEndpointRouteBuilder routes)
    {
        var group = routes.MapGroup("/api/v1/connections").WithTags("connections");
        group.MapGet("/", (ConnectionDirectory connections) => connections.All.Select(View)).WithSummary("All connections.");
        group.MapGet("/{name}", (string name, ConnectionDirectory connections) =>
            connections.Find(name) is { } found ? Results.Ok(View(found)) : Problems.NotFound($"connection {name}")).WithSummary("One connection; its secret is not told.");
        group.MapPost("/", SaveNewAsync).WithSummary("Keeps a new connection.");
        group.MapPut("/{name}", SaveAsync).WithSummary("Changes a connection.");
        group.MapDelete("/{name}", RemoveAsync).WithSummary("Forgets a connection that no crossing names.");
        group.MapPost("/{name}/test", TestAsync).WithSummary("Proves each hop of the connection.");
        group.MapGet("/{name}/readiness", ReadinessAsync).WithSummary("What must hold, for the role source or target.");
        group.MapGet("/{name}/preparation", PreparationAsync).WithSummary("The script that a DBA runs for the role source or target, and its undo.");
        routes.MapGet("/connections/{name}/preparation.sql", ScriptAsync).ExcludeFromDescription();
        group.MapGet("/{name}/tables", TablesAsync).WithSummary("The tables of the database.");
        group.MapGet("/{name}/rows", RowsAsync).WithSummary("Some rows of a table, read and not kept.");
        routes.MapPost("/api/v1/bench/{connection}", BenchAsync).WithTags("bench").WithSummary("Runs statements on a stand-in, in one transaction.");
    }

    private static object View(ConnectionDefinition connection) =>
        new { name = connection.Name, kind = connection.Kind, settings = connection.Settings, hasSecret = connection.HasSecret };

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
        bool confirm = false)
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
            return Problems.Of(409, "in-use", $"{name} is used by {string.Join(", ", running)}, running.", "Add ?confirm=true: they are paused, and go on with the new settings. Or pause them first.", "name");
        }

        var changed = new ConnectionDefinition(body.Name, body.Kind, body.Settings ?? [], body.Secret is not null);
        if (connections.Check(changed, body.SecretText) is { Count: > 0 } problems)
        {
            return Problems.Definition(problems);
        }

        var failed = (await change.TestAsync(changed, body.SecretText, cancellation)).FirstOrDefault(line => !line.Ok);
        if (failed is not null)
        {
            return Problems.Of(409, "not-ready", $"{failed.Step}: {failed.Found}. Nothing was changed.", failed.Mend ?? "Correct the settings.", "settings");
        }

        await change.ApplyAsync(changed, body.SecretText, Who.Of(context), cancellation);
        return Results.Ok(View(connections.Find(name)!));
    }

    private static async Task<IResult> KeepAsync(ConnectionBody body, ConnectionDirectory connections, bool created, CancellationToken cancellation)
    {
        var connection = new ConnectionDefinition(body.Name, body.Kind, body.Settings ?? [], body.Secret is not null);
        var problems = connections.Check(connection, body.SecretText);
        if (problems.Count > 0)
        {
            return Problems.Definition(problems);
        }

        await connections.SaveAsync(connection, body.SecretText, cancellation, isNew: created);
        return created ? Results.Created($"/api/v1/connections/{body.Name}", View(connections.Find(body.Name)!)) : Results.Ok(View(connections.Find(body.Name)!));
    }

    private static async Task<IResult> RemoveAsync(string name, ConnectionDirectory connections, CrossingEngine engine, CancellationToken cancellation)
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
        return [.. engine.Statuses.Where(status => status.Definition.Source == connection || status.Definition.Target == connection).Select(status => status.Name)];
    }

    /// <summary>The crossings that name a connection and run, or try to.</summary>
    public static IReadOnlyList<string> RunningUsersOf(string connection, CrossingEngine engine) => [.. UsersOf(connection, engine)
        .Where(name => engine.Status(name)?.State is Core.Crossings.CrossingState.Checking or Core.Crossings.CrossingState.Loading or Core.Crossings.CrossingState.CatchingUp or Core.Crossings.CrossingState.Following)];

    private static async Task<IResult> TestAsync(string name, ConnectionDirectory connections, CancellationToken cancellation) =>
        connections.Find(name) is null
            ? Problems.NotFound($"connection {name}")
            : Results.Ok((await connections.Source(name).TestAsync(cancellation)).Select(ReadinessView.Of));

    private static async Task<IResult> ReadinessAsync(string name, string role, ConnectionDirectory connections, CancellationToken cancellation)
    {
        if (connections.Find(name) is null)
        {
            return Problems.NotFound($"connection {name}");
        }

        if (role is not ("source" or "target"))
        {
            return Problems.Of(422, "definition", $"'{role}' is not a role.", "Use source or target.", "role");
        }

        IDatabase database = connections.Source(name);
        var lines = (await database.TestAsync(cancellation)).ToList();
        if (lines.TrueForAll(line => line.Ok))
        {
            lines.AddRange(role == "source"
                ? await connections.Source(name).CheckSourceAsync([], cancellation)
                : await connections.Target(name).CheckTargetAsync([], new Dictionary<TableName, ExistingRows>(), new HashSet<TableName>(), cancellation));
        }

        return Results.Ok(lines.Select(ReadinessView.Of));
    }

    /// <summary>The script as a file, or its undo; of the tables that a crossing takes where one is named.</summary>
    private static async Task<IResult> ScriptAsync(string name, string role, ConnectionDirectory connections, CrossingEngine engine, CancellationToken cancellation, bool undo = false, string? crossing = null)
    {
        if (connections.Find(name) is null || connections.Preparable(name) is not { } preparable || role is not ("source" or "target"))
        {
            return Problems.NotFound($"preparation script for {name}");
        }

        var rules = crossing is null ? null : engine.Status(crossing)?.Definition.Tables;
        var tables = role == "target" ? [] : (await connections.Source(name).ReadTablesAsync(cancellation))
            .Where(table => (table.Crosses || table.InsertsCross) && rules?.Takes(table.Schema.Name) != false)
            .Select(table => table.Schema.Name).ToList();
        var made = role == "source" ? await preparable.PrepareSourceAsync(tables, cancellation) : await preparable.PrepareTargetAsync(cancellation);
        return Results.File(System.Text.Encoding.UTF8.GetBytes(undo ? made.Undo : made.Script), "application/sql", $"{name}-{role}{(undo ? "-undo" : "")}.sql");
    }

    private static async Task<IResult> PreparationAsync(string name, string role, ConnectionDirectory connections, CancellationToken cancellation, string? find = null)
    {
        if (connections.Find(name) is null)
        {
            return Problems.NotFound($"connection {name}");
        }

        if (connections.Preparable(name) is not { } preparable)
        {
            return Problems.NotFound($"preparation for {name}, which needs none");
        }

        if (role is not ("source" or "target"))
        {
            return Problems.Of(422, "definition", $"'{role}' is not a role.", "Use source or target.", "role");
        }

        var tables = role == "target" ? [] : (await connections.Source(name).ReadTablesAsync(cancellation))
            .Where(table => (table.Crosses || table.InsertsCross) && (find is null || table.Schema.Name.ToString().Contains(find, StringComparison.OrdinalIgnoreCase)))
            .Select(table => table.Schema.Name).ToList();
        var made = role == "source" ? await preparable.PrepareSourceAsync(tables, cancellation) : await preparable.PrepareTargetAsync(cancellation);
        return Results.Ok(new { script = made.Script, undo = made.Undo, needsRestart = made.NeedsRestart });
    }

    private static async Task<IResult> TablesAsync(
        string name,
        ConnectionDirectory connections,
        CancellationToken cancellation,
        string? find = null,
        string? after = null,
        int limit = 100)
    {
        if (connections.Find(name) is null)
        {
            return Problems.NotFound($"connection {name}");
        }

        var tables = await connections.Source(name).ReadTablesAsync(cancellation);
        return Results.Ok(tables
            .Where(table => find is null || table.Schema.Name.ToString().Contains(find, StringComparison.OrdinalIgnoreCase))
            .Where(table => after is null || string.CompareOrdinal(table.Schema.Name.ToString(), after) > 0)
            .OrderBy(table => table.Schema.Name)
            .Take(Math.Clamp(limit, 1, MostTables))
            .Select(View));
    }

    private static async Task<IResult> RowsAsync(string name, string table, ConnectionDirectory connections, CrossingEngine engine, CancellationToken cancellation, int limit = 20)
    {
        if (connections.Find(name) is null)
        {
            return Problems.NotFound($"connection {name}");
        }

        var source = connections.Source(name);
        if ((await source.ReadTablesAsync(cancellation)).FirstOrDefault(candidate => candidate.Schema.Name.ToString() == table)?.Schema is not { } form)
        {
            return Problems.NotFound($"table {table} in {name}");
        }

        var rows = await source.LookAsync(form, Math.Clamp(limit, 1, MostTables), cancellation);
        var masked = engine.Trace.MaskedColumns(name, form);
        return Results.Ok(new
        {
            columns = form.Columns.Select(column => column.Name),
            rows = rows.Select(row => Enumerable.Range(0, row.Count).Select(i => row.KindAt(i) == ValueKind.Null ? null : masked.Contains(form.Columns[i].Name) ? Treating.BeforeAfter.Hidden(row, i, form.Columns[i].Type) : row.DisplayAt(i))),
        });
    }

    private static object View(TableDescription table) => new
    {
        schema = table.Schema.Name.Schema,
        table = table.Schema.Name.Name,
        estimatedRows = table.EstimatedRows,
        bytes = table.Bytes,
        key = table.Schema.KeyOrdinals.Select(i => table.Schema.Columns[i].Name),
        columns = table.Schema.Columns.Select(column => new
        {
            name = column.Name,
            type = column.Type,
            nullable = column.Nullable,
            crosses = !column.Generated,
            reason = column.Generated ? "the database computes it" : null,
        }),
        crosses = table.Crosses,
        reason = table.Reason,
        insertsCross = table.Crosses || table.InsertsCross,
        partOf = table.PartOf?.ToString(),
    };

    private static async Task<IResult> BenchAsync(string connection, BenchBody body, ConnectionDirectory connections, TimeProvider clock, CancellationToken cancellation)
    {
        if (connections.Find(connection) is not { Kind: ConnectionDefinition.StandIn })
        {
            return Problems.NotFound($"stand-in {connection}");
        }

        var result = await StandInBench.RunAsync(connections.StandIn(connection)!, body.Statement, clock, cancellation);
        return Results.Ok(new
        {
            columns = result.Columns,
            rows = result.Rows,
            more = result.More,
            changed = result.Changed,
            changes = result.Changes.Select(change => new { table = change.Table.ToString(), kind = change.Kind.ToString().ToLowerInvariant(), key = change.Key }),
            position = result.Position?.ToString(),
            took = result.Took.TotalSeconds,
        });
    }
}
