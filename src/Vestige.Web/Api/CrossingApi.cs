using System.Text;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Supervision;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;
using Vestige.Web.Definitions;
using Vestige.Web.Hosting;
using Vestige.Web.Measures;

namespace Vestige.Web.Api;

/// <summary>Crossings over HTTP.</summary>
public static class CrossingApi
{
    private const string By = "api";
    private static readonly HashSet<string> Reserved = ["new", "import", "steer"];

    public static void Map(IEndpointRouteBuilder routes)
    {
        var group = routes.MapGroup("/api/v1/crossings").WithTags("crossings");
        group.MapGet("/", (CrossingEngine engine) => engine.Statuses.Select(status => new { name = status.Name, state = status.State.Word(), definition = status.Definition }))
            .WithSummary("All crossings.");
        group.MapPost("/", AddAsync).Accepts<CrossingDefinition>("application/json", DefinitionBody.Yaml).WithSummary("Keeps a new definition, as a draft.");
        group.MapGet("/{name}", GetAsync).WithSummary("The definition, with its ETag; as YAML when that is accepted.");
        group.MapGet("/{name}/definitions", async (string name, ControlStore store, CancellationToken cancellation) =>
            Listed(await store.VersionsAsync(name, cancellation)) ?? Problems.NotFound($"crossing {name}")).WithSummary("Every definition that was kept, newest first, with who and when.");
        group.MapPut("/{name}", PutAsync).Accepts<CrossingDefinition>("application/json", DefinitionBody.Yaml).WithSummary("Changes a definition; needs If-Match. One that was started answers with what the change needs, until confirm=true, or confirm=NAME where something on the target is destroyed.");
        group.MapDelete("/{name}", DeleteAsync).WithSummary("Removes a crossing that does not run; needs If-Match.");
        group.MapPost("/{name}/plan", PlanAsync).WithSummary("What a start would do.");
        group.MapPost("/{name}/check", CheckAsync).WithSummary("Everything that must hold before a start.");
        group.MapPost("/{name}/start", (string name, CrossingEngine engine, CancellationToken cancellation, string? confirm = null) =>
            DoAsync(name, engine, () => engine.RunAsync(name, By, cancellation, confirm))).WithSummary("Starts; where that destroys something on the target, only with confirm=NAME.");
        group.MapPost("/{name}/keep-log", async (string name, CrossingEngine engine, ConnectionDirectory connections, CancellationToken cancellation) =>
            engine.Status(name) is { } status
                ? Results.Ok(new { name, after = connections.Source(status.Definition.Source).Format(await engine.KeepLogAsync(name, By, cancellation)) })
                : Problems.NotFound($"crossing {name}")).WithSummary("Lets the source's log be kept for a draft that carries changes only; says after which position.");
        group.MapPost("/{name}/resume", (string name, CrossingEngine engine, CancellationToken cancellation) =>
            DoAsync(name, engine, () => engine.RunAsync(name, By, cancellation))).WithSummary("Goes on from the place kept.");
        group.MapPost("/{name}/pause", (string name, CrossingEngine engine, CancellationToken cancellation) =>
            DoAsync(name, engine, () => engine.PauseAsync(name, By, cancellation))).WithSummary("Rests after the transaction in hand.");
        group.MapPost("/{name}/stop", StopAsync).WithSummary("Comes to rest: drain, transaction or now.");
        group.MapPost("/steer", SteerAsync).WithSummary("Pauses, resumes or drains several crossings, by name or by tag; says what came of each.");
        group.MapPost("/{name}/reload", ReloadAsync).WithSummary("Loads tables again; their rows on the target are deleted first.");
        group.MapGet("/{name}/measures", MeasuresAsync).WithSummary("Lag and rates over a window of seconds, and delays per transaction over several.");
        group.MapGet("/{name}/status", (string name, CrossingEngine engine, ConnectionDirectory connections) =>
            engine.Status(name) is { } status ? Results.Ok(StatusView.Of(status, FormatOf(status, connections))) : Problems.NotFound($"crossing {name}"))
            .WithSummary("How it stands.");
        routes.MapGet("/crossings/{name}/definition.yaml", (string name, CrossingEngine engine) =>
            engine.Status(name) is { } status ? Results.File(Encoding.UTF8.GetBytes(DefinitionYaml.Write(status.Definition)), DefinitionBody.Yaml, $"{name}.yaml") : Problems.NotFound($"crossing {name}"))
            .ExcludeFromDescription();
        routes.MapGet("/crossings/{name}/statements.sql", async (string name, CrossingEngine engine, CancellationToken cancellation) =>
            engine.Status(name) is { Definition: var definition }
                ? Results.File(StatementsFile.Of(name, definition.Target, await engine.PlanAsync(definition, cancellation)), StatementsFile.Type, $"{name}.sql")
                : Problems.NotFound($"crossing {name}"))
            .ExcludeFromDescription();
        group.MapGet("/{name}/history", HistoryAsync).WithSummary("Its runs with their counts, from and to position, and why each ended, the latest first.");
        group.MapGet("/{name}/events", EventsAsync).WithSummary("What happened, newest first.");
    }

    /// <summary>Positions in the notation of a crossing's source; the bare number when that connection is gone or cannot be opened.</summary>
    public static Func<LogPosition, string> FormatOf(CrossingStatus status, ConnectionDirectory connections)
    {
        ArgumentNullException.ThrowIfNull(status);
        ArgumentNullException.ThrowIfNull(connections);
        return position =>
        {
            try
            {
                return connections.Source(status.Definition.Source).Format(position);
            }
            catch (Exception exception) when (exception is PortException or RequestRefusedException or IOException)
            {
                return position.ToString();
            }
        };
    }

    /// <summary>What is wrong with a definition, connections included; empty when nothing is.</summary>
    public static IReadOnlyList<DefinitionProblem> Check(CrossingDefinition definition, ConnectionDirectory connections)
    {
        ArgumentNullException.ThrowIfNull(definition);
        ArgumentNullException.ThrowIfNull(connections);
        var problems = DefinitionRules.Check(definition).ToList();
        if (Reserved.Contains(definition.Name))
        {
            problems.Add(new DefinitionProblem("name", $"'{definition.Name}' is the address of a page", "Choose another name."));
        }

        foreach (var (field, name) in new[] { ("source", definition.Source), ("target", definition.Target) })
        {
            if (!string.IsNullOrEmpty(name) && connections.Find(name) is null)
            {
                problems.Add(new DefinitionProblem(field, $"there is no connection {name}", $"Use one of: {string.Join(", ", connections.All.Select(connection => connection.Name))}."));
            }
        }

        return problems;
    }

    private static IResult? Listed(IReadOnlyList<DefinitionVersion> versions) =>
        versions.Count == 0 ? null : Results.Ok(versions.Select(version => new { version = version.Number, by = version.By, at = version.At, definition = version.Definition }));

    private static IResult? Refused(DefinitionBody sent, ConnectionDirectory connections)
    {
        var problems = sent.Definition is null ? sent.Problems : [.. Check(sent.Definition, connections).Select(sent.Placed)];
        return problems.Count > 0 ? Problems.Definition(problems) : null;
    }

    private static async Task<IResult> AddAsync(DefinitionBody sent, CrossingEngine engine, ConnectionDirectory connections, CancellationToken cancellation)
    {
        if (Refused(sent, connections) is { } refused)
        {
            return refused;
        }

        var body = sent.Definition!;

        if (engine.Status(body.Name) is not null)
        {
            return Problems.Of(409, "exists", $"There is a crossing {body.Name} already.", "Choose another name, or PUT to change it.", "name");
        }

        await engine.DefineAsync(body, By, cancellation, _ => engine.Status(body.Name) is null ? Task.CompletedTask : throw new RequestRefusedException($"There is a crossing {body.Name} already.") { Mend = "Choose another name, or PUT to change it." });
        return Results.Created($"/api/v1/crossings/{body.Name}", body);
    }

    private static async Task<IResult> GetAsync(string name, CrossingEngine engine, ControlStore store, HttpContext context, CancellationToken cancellation)
    {
        if (engine.Status(name) is not { } status)
        {
            return Problems.NotFound($"crossing {name}");
        }

        context.Response.Headers.ETag = Tag(await store.VersionAsync(name, cancellation));
        context.Response.Headers.Vary = "Accept";
        var asYaml = context.Request.GetTypedHeaders().Accept.Any(type => type.MediaType.Equals(DefinitionBody.Yaml, StringComparison.OrdinalIgnoreCase));
        return asYaml ? Results.Text(DefinitionYaml.Write(status.Definition), DefinitionBody.Yaml) : Results.Ok(status.Definition);
    }

    private static async Task<IResult> PutAsync(
        string name,
        DefinitionBody sent,
        HttpRequest request,
        CrossingEngine engine,
        ControlStore store,
        ConnectionDirectory connections,
        CancellationToken cancellation)
    {
        if (await MismatchAsync(name, request, engine, store, cancellation) is { } mismatch)
        {
            return mismatch;
        }

        if (Refused(sent, connections) is { } refused)
        {
            return refused;
        }

        var body = sent.Definition!;
        if (body.Name != name)
        {
            return Problems.Of(422, "definition", "The name differs from the one in the path.", "A crossing cannot be renamed.", "name");
        }

        if (engine.Status(name) is { State: CrossingState.Draft })
        {
            await engine.DefineAsync(body, By, cancellation, ExpectedBy(name, request, store));
            return Results.Ok(body);
        }

        var confirmed = request.Query["confirm"].ToString();
        if (confirmed != "true" && confirmed != name)
        {
            return Problems.Confirm(await engine.CompareAsync(body, cancellation));
        }

        await engine.ChangeAsync(body, By, cancellation, confirmed, ExpectedBy(name, request, store));
        return Results.Ok(body);
    }

    private static async Task<IResult> DeleteAsync(string name, HttpRequest request, CrossingEngine engine, ControlStore store, CancellationToken cancellation)
    {
        if (await MismatchAsync(name, request, engine, store, cancellation) is { } mismatch)
        {
            return mismatch;
        }

        await engine.RemoveAsync(name, By, cancellation, ExpectedBy(name, request, store));
        return Results.NoContent();
    }

    /// <summary>Asks once more when no other change can come between.</summary>
    private static Func<CancellationToken, Task> ExpectedBy(string name, HttpRequest request, ControlStore store) => async cancellation =>
    {
        var (given, present) = (request.Headers.IfMatch.ToString(), Tag(await store.VersionAsync(name, cancellation)));
        if (given != present && given != "*")
        {
            throw new DefinitionChangedException($"The definition has changed; its ETag is {present}.") { Mend = "Read it again." };
        }
    };

    private static async Task<IResult?> MismatchAsync(string name, HttpRequest request, CrossingEngine engine, ControlStore store, CancellationToken cancellation)
    {
        if (engine.Status(name) is null)
        {
            return Problems.NotFound($"crossing {name}");
        }

        var present = Tag(await store.VersionAsync(name, cancellation));
        var given = request.Headers.IfMatch.ToString();
        if (given.Length == 0)
        {
            return Problems.Of(428, "if-match-needed", "If-Match is missing.", $"Send the ETag of the definition you read, now {present}.", "If-Match");
        }

        return given == present || given == "*"
            ? null
            : Problems.Of(412, "changed-meanwhile", $"The definition has changed; its ETag is {present}.", "Read it again.", "If-Match");
    }

    private static async Task<IResult> PlanAsync(string name, CrossingEngine engine, CancellationToken cancellation)
    {
        if (engine.Status(name) is not { } status)
        {
            return Problems.NotFound($"crossing {name}");
        }

        var plan = await engine.PlanAsync(status.Definition, cancellation);
        return Results.Ok(new
        {
            ready = plan.Ready,
            tables = plan.Tables.Select(table => new { source = table.Source.ToString(), target = table.Into[0].ToString(), into = table.Into.Select(into => into.ToString()), rows = table.Rows, bytes = table.Bytes }),
            leftOut = plan.LeftOut.Select(table => new { source = table.Source.ToString(), reason = table.Reason }),
            statements = plan.Statements.Select(statement => statement.Text),
            notMade = plan.NotMade,
            rows = plan.Rows,
            bytes = plan.Bytes,
            estimateSeconds = plan.Estimate.TotalSeconds,
            rowsPerSecond = plan.RowsPerSecond,
            measured = plan.Measured,
            lines = plan.Lines.Select(ReadinessView.Of),
            problems = plan.Problems.Select(problem => new { problem.Field, problem.Found, problem.Mend, character = problem.Place, problem.Length }),
        });
    }

    private static async Task<IResult> CheckAsync(string name, CrossingEngine engine, CancellationToken cancellation) =>
        engine.Status(name) is { } status
            ? Results.Ok((await engine.PlanAsync(status.Definition, cancellation)).Lines.Select(ReadinessView.Of))
            : Problems.NotFound($"crossing {name}");

    private static async Task<IResult> StopAsync(string name, StopBody body, CrossingEngine engine, ConnectionDirectory connections, CancellationToken cancellation)
    {
        if (engine.Status(name) is not { } status)
        {
            return Problems.NotFound($"crossing {name}");
        }

        StopManner? manner = body.Manner switch
        {
            "drain" => StopManner.Drain,
            "transaction" => StopManner.Transaction,
            "now" => StopManner.Now,
            _ => null,
        };
        if (manner is null)
        {
            return Problems.Of(422, "stop", $"'{body.Manner}' is not a manner of stopping.", "Use drain, transaction or now.", "manner");
        }

        if (body.Mark is not { } wanted)
        {
            return await DoAsync(name, engine, () => engine.StopAsync(name, manner.Value, By, cancellation));
        }

        var given = (wanted.Position is null ? 0 : 1) + (wanted.Time is null ? 0 : 1) + (wanted.AsOfNow == true ? 1 : 0);
        var position = wanted.Position is null ? null : connections.Source(status.Definition.Source).Parse(wanted.Position);
        if (given != 1 || manner != StopManner.Drain || (wanted.Position is not null && position is null))
        {
            return Problems.Of(422, "stop", "The mark cannot be used.", "Give one of a position in the source's notation, a time, or asOfNow, with the manner drain.", "mark");
        }

        return await DoAsync(name, engine, () => engine.StopAtAsync(name, wanted.AsOfNow == true ? null : new StopMark(position, wanted.Time), By, cancellation));
    }

    private static async Task<IResult> MeasuresAsync(string name, CrossingEngine engine, MeasureHistory history, CancellationToken cancellation, double window = 900)
    {
        if (engine.Status(name) is null)
        {
            return Problems.NotFound($"crossing {name}");
        }

        if (window is not (>= 1 and <= 63072000))
        {
            return Problems.Of(422, "window", "The window is not from one second to two years.", "Give seconds.", "window");
        }

        var points = await history.PointsAsync(name, TimeSpan.FromSeconds(window), TimeSpan.Zero, cancellation);
        return Results.Ok(new
        {
            points = points.Select(point => new { at = StatusView.Rfc3339(point.At), behind = point.Behind.TotalSeconds, notCaptured = point.NotCaptured.TotalSeconds, notSpooled = point.NotSpooled.TotalSeconds, notApplied = point.NotApplied.TotalSeconds, arriving = point.Arriving, applied = point.Applied }),
            delays = (await history.DelaysAsync(name, cancellation)).Select(delay => new { window = delay.Window.TotalSeconds, delay.Transactions, p50 = delay.P50?.TotalSeconds, p95 = delay.P95?.TotalSeconds, p99 = delay.P99?.TotalSeconds }),
        });
    }

    private static async Task<IResult> HistoryAsync(string name, CrossingEngine engine, ConnectionDirectory connections, RunHistory runs, CancellationToken cancellation, DateTimeOffset? after = null, int limit = 100)
    {
        if (engine.Status(name) is not { } status)
        {
            return Problems.NotFound($"crossing {name}");
        }

        var format = FormatOf(status, connections);
        return Results.Ok((await runs.ReadAsync(name, after, Math.Clamp(limit, 1, 1000), cancellation)).Select(run => new
        {
            beganAt = StatusView.Rfc3339(run.BeganAt),
            by = run.By,
            endedAt = run.EndedAt is { } ended ? StatusView.Rfc3339(ended) : null,
            from = run.From is { } from ? format(from) : null,
            to = run.To is { } to ? format(to) : null,
            rowsLoaded = run.RowsLoaded,
            changes = new { insert = run.Inserts, update = run.Updates, delete = run.Deletes, other = run.Others },
            why = run.Why,
        }));
    }

    private static async Task<IResult> SteerAsync(SteerBody body, CrossingEngine engine, CancellationToken cancellation)
    {
        if (!SteerSeveral.Actions.Contains(body.Action))
        {
            return Problems.Of(422, "steer", $"'{body.Action}' cannot be asked of several.", "Use pause, resume or stop.", "action");
        }

        var tagged = body.Tag is null ? [] : engine.Statuses.Where(status => status.Definition.Tags?.Contains(body.Tag) == true).Select(status => status.Name);
        var outcomes = await new SteerSeveral(engine).DoAsync([.. (body.Names ?? []).Union(tagged)], body.Action, By, cancellation);
        return Results.Ok(outcomes.Select(outcome => new { name = outcome.Crossing, done = outcome.Problem is null, problem = outcome.Problem }));
    }

    private static Task<IResult> ReloadAsync(string name, ReloadBody body, CrossingEngine engine, CancellationToken cancellation) =>
        DoAsync(name, engine, () => engine.ReloadAsync(name, [.. (body.Tables ?? []).Select(table => TablesOf.Named(engine.Status(name), table))], By, cancellation));

    private static async Task<IResult> EventsAsync(string name, CrossingEngine engine, ControlStore store, CancellationToken cancellation, int limit = 100) =>
        engine.Status(name) is null
            ? Problems.NotFound($"crossing {name}")
            : Results.Ok((await store.EventsAsync(name, Math.Clamp(limit, 1, 1000), cancellation)).Select(happened => new
            {
                at = StatusView.Rfc3339(happened.At),
                kind = happened.Kind.ToString().ToLowerInvariant(),
                text = happened.Text,
                by = happened.By,
            }));

    private static async Task<IResult> DoAsync(string name, CrossingEngine engine, Func<Task> request)
    {
        if (engine.Status(name) is null)
        {
            return Problems.NotFound($"crossing {name}");
        }

        await request();
        return engine.Status(name) is { } after ? Results.Ok(new { name, state = after.State.Word() }) : Problems.NotFound($"crossing {name}");
    }

    private static string Tag(long? version) => $"\"{version}\"";
}
