using System.Text;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Web.Api.Describing;
using Vestige.Web.Api.Documents;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;
using Vestige.Web.Definitions;
using Vestige.Web.Hosting;
using Vestige.Web.Measures;

namespace Vestige.Web.Api;

/// <summary>Crossings over HTTP: their definitions, and how they stand.</summary>
public static class CrossingApi
{
    private const string By = "api";
    private static readonly HashSet<string> Reserved = ["new", "import", "steer"];

    public static void Map(IEndpointRouteBuilder routes)
    {
        var group = routes.MapGroup("/api/v1/crossings").WithTags("crossings");
        CrossingRunApi.Map(group);
        CrossingTablesApi.Map(group);
        RewindApi.Map(group);
        BackfillApi.Map(group);
        StructureApi.Map(group);
        group
            .MapGet("/", (CrossingEngine engine) =>
                engine.Statuses.Select(status => new CrossingDocument(
                    Name: status.Name,
                    State: status.State.Word(),
                    Headline: StatusView.HeadlineOf(status.Headline.Worst),
                    Definition: status.Definition
                ))
            )
            .Describe("listCrossings", "All crossings.")
            .Answers<IReadOnlyList<CrossingDocument>>();
        group
            .MapPost("/", AddAsync)
            .Accepts<CrossingDefinition>("application/json", DefinitionBody.Yaml)
            .Describe("createCrossing", "Saves a new definition as a draft. The body is JSON or YAML.")
            .Answers<CrossingDefinition>(201)
            .Refuses(409, 422, 424);
        group
            .MapGet("/{name}", GetAsync)
            .Describe("getCrossing", "The definition, with its ETag. As YAML where Accept asks for application/yaml.")
            .Answers<CrossingDefinition>(200, "application/json", DefinitionBody.Yaml)
            .Refuses(404);
        group
            .MapGet("/{name}/definitions", async (string name, ControlStore store, CancellationToken cancellation) =>
                Listed(await store.VersionsAsync(name, cancellation)) ?? Problems.NotFound($"crossing {name}")
            )
            .Describe("listDefinitions", "Every definition that was saved, newest first, with who and when.")
            .Answers<IReadOnlyList<DefinitionVersionDocument>>()
            .Refuses(404);
        group
            .MapPut("/{name}", PutAsync)
            .Accepts<CrossingDefinition>("application/json", DefinitionBody.Yaml)
            .Describe(
                "changeCrossing",
                "Changes a definition. One that was started is answered with what the change needs (409, type confirm), until it "
                    + "comes again with confirm=true, or with confirm set to the crossing's name where something on the target is "
                    + "destroyed."
            )
            .Answers<CrossingDefinition>()
            .NeedsIfMatch()
            .Refuses(404, 409, 422, 424);
        group
            .MapDelete("/{name}", DeleteAsync)
            .Describe("deleteCrossing", "Removes a crossing that does not run. The rows on its target stay.")
            .Produces(204)
            .NeedsIfMatch()
            .Refuses(404, 409, 424);
        group
            .MapPost("/{name}/plan", PlanAsync)
            .Describe("planCrossing", "What a start would do: tables, statements, checks, estimate. Nothing is written.")
            .Answers<PlanDocument>()
            .Refuses(404, 424);
        group
            .MapPost("/{name}/check", CheckAsync)
            .Describe("checkCrossing", "Everything that must hold before a start.")
            .Answers<IReadOnlyList<ReadinessView>>()
            .Refuses(404, 424);
        group
            .MapGet("/{name}/measures", MeasuresAsync)
            .Describe(
                "getMeasures",
                "Lag and rates over a window of seconds, up to two years, and delays per transaction over several windows."
            )
            .Answers<MeasuresDocument>()
            .Refuses(404, 422);
        group
            .MapGet("/{name}/status", (string name, CrossingEngine engine, ConnectionDirectory connections) =>
                engine.Status(name) is { } status
                    ? Results.Ok(StatusView.Of(status, FormatOf(status, connections)))
                    : Problems.NotFound($"crossing {name}")
            )
            .Describe("getStatus", "How a crossing stands: state, lag, rates, forecasts, positions, tables.")
            .Answers<StatusDocument>()
            .Refuses(404);
        routes
            .MapGet("/crossings/{name}/definition.yaml", (string name, CrossingEngine engine) =>
                engine.Status(name) is { } status
                    ? Results.File(Encoding.UTF8.GetBytes(DefinitionYaml.Write(status.Definition)), DefinitionBody.Yaml, $"{name}.yaml")
                    : Problems.NotFound($"crossing {name}")
            )
            .ExcludeFromDescription();
        routes
            .MapGet("/crossings/{name}/statements.sql", async (string name, CrossingEngine engine, CancellationToken cancellation) =>
                engine.Status(name) is { Definition: var definition }
                    ? Results.File(
                        StatementsFile.Of(name, definition.Target, await engine.PlanAsync(definition, cancellation)),
                        StatementsFile.Type,
                        $"{name}.sql"
                    )
                    : Problems.NotFound($"crossing {name}")
            )
            .ExcludeFromDescription();
        group
            .MapGet("/{name}/history", HistoryAsync)
            .Describe("listRuns", "The runs of a crossing, the latest first, with their counts, positions and why each ended.")
            .Answers<IReadOnlyList<RunDocument>>()
            .Refuses(404);
        group
            .MapGet("/{name}/events", EventsAsync)
            .Describe("listEvents", "What happened to a crossing, newest first.")
            .Answers<IReadOnlyList<EventDocument>>()
            .Refuses(404);
    }

    /// <summary>
    /// Positions in the notation of a crossing's source; the bare number when that connection is gone or cannot be opened.
    /// </summary>
    public static Func<LogPosition, string> FormatOf(CrossingStatus status, ConnectionDirectory connections)
    {
        ArgumentNullException.ThrowIfNull(status);
        ArgumentNullException.ThrowIfNull(connections);
        return position =>
        {
            try
            {
                return connections.Source(status.Definition.Source).Log.Format(position);
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
                problems.Add(
                    new DefinitionProblem(
                        field,
                        $"there is no connection {name}",
                        $"Use one of: {string.Join(", ", connections.All.Select(connection => connection.Name))}."
                    )
                );
            }
        }

        return problems;
    }

    private static IResult? Listed(IReadOnlyList<DefinitionVersion> versions) =>
        versions.Count == 0
            ? null
            : Results.Ok(
                versions.Select(version => new DefinitionVersionDocument(
                    Version: version.Number,
                    By: version.By,
                    At: version.At,
                    Definition: version.Definition
                ))
            );

    private static IResult? Refused(DefinitionBody sent, ConnectionDirectory connections)
    {
        var problems = sent.Definition is null ? sent.Problems : [.. Check(sent.Definition, connections).Select(sent.Placed)];
        return problems.Count > 0 ? Problems.Definition(problems) : null;
    }

    private static async Task<IResult> AddAsync(
        DefinitionBody sent,
        CrossingEngine engine,
        ConnectionDirectory connections,
        CancellationToken cancellation
    )
    {
        if (Refused(sent, connections) is { } refused)
        {
            return refused;
        }

        var body = sent.Definition!;

        if (engine.Status(body.Name) is not null)
        {
            return Problems.Of(
                409,
                "exists",
                $"There is a crossing {body.Name} already.",
                "Choose another name, or PUT to change it.",
                "name"
            );
        }

        await engine.DefineAsync(body, By, cancellation, _ =>
            engine.Status(body.Name) is null
                ? Task.CompletedTask
                : throw new RequestRefusedException($"There is a crossing {body.Name} already.")
                {
                    Remedy = "Choose another name, or PUT to change it.",
                }
        );
        return Results.Created($"/api/v1/crossings/{body.Name}", body);
    }

    private static async Task<IResult> GetAsync(
        string name,
        CrossingEngine engine,
        ControlStore store,
        HttpContext context,
        CancellationToken cancellation
    )
    {
        if (engine.Status(name) is not { } status)
        {
            return Problems.NotFound($"crossing {name}");
        }

        context.Response.Headers.ETag = Tag(await store.VersionAsync(name, cancellation));
        context.Response.Headers.Vary = "Accept";
        var asYaml = context
            .Request.GetTypedHeaders()
            .Accept.Any(type => type.MediaType.Equals(DefinitionBody.Yaml, StringComparison.OrdinalIgnoreCase));
        return asYaml ? Results.Text(DefinitionYaml.Write(status.Definition), DefinitionBody.Yaml) : Results.Ok(status.Definition);
    }

    private static async Task<IResult> PutAsync(
        string name,
        DefinitionBody sent,
        HttpRequest request,
        CrossingEngine engine,
        ControlStore store,
        ConnectionDirectory connections,
        CancellationToken cancellation,
        string? confirm = null
    )
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

        if (confirm != "true" && confirm != name)
        {
            return Problems.Confirm(await engine.CompareAsync(body, cancellation));
        }

        await engine.ChangeAsync(body, By, cancellation, confirm, ExpectedBy(name, request, store));
        return Results.Ok(body);
    }

    private static async Task<IResult> DeleteAsync(
        string name,
        HttpRequest request,
        CrossingEngine engine,
        ControlStore store,
        CancellationToken cancellation
    )
    {
        if (await MismatchAsync(name, request, engine, store, cancellation) is { } mismatch)
        {
            return mismatch;
        }

        await engine.RemoveAsync(name, By, cancellation, ExpectedBy(name, request, store));
        return Results.NoContent();
    }

    /// <summary>Asks once more when no other change can come between.</summary>
    private static Func<CancellationToken, Task> ExpectedBy(string name, HttpRequest request, ControlStore store) =>
        async cancellation =>
        {
            var (given, present) = (request.Headers.IfMatch.ToString(), Tag(await store.VersionAsync(name, cancellation)));
            if (given != present && given != "*")
            {
                throw new DefinitionChangedException($"The definition has changed; its ETag is {present}.") { Remedy = "Read it again." };
            }
        };

    private static async Task<IResult?> MismatchAsync(
        string name,
        HttpRequest request,
        CrossingEngine engine,
        ControlStore store,
        CancellationToken cancellation
    )
    {
        if (engine.Status(name) is null)
        {
            return Problems.NotFound($"crossing {name}");
        }

        var present = Tag(await store.VersionAsync(name, cancellation));
        var given = request.Headers.IfMatch.ToString();
        if (given.Length == 0)
        {
            return Problems.Of(
                428,
                "if-match-needed",
                "If-Match is missing.",
                $"Send the ETag of the definition you read, now {present}.",
                "If-Match"
            );
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
        return Results.Ok(
            new PlanDocument(
                Ready: plan.Ready,
                Tables:
                [
                    .. plan.Tables.Select(table => new PlannedTableDocument(
                        Source: table.Source.ToString(),
                        Target: table.Into[0].ToString(),
                        Into: [.. table.Into.Select(into => into.ToString())],
                        Rows: table.Rows,
                        Bytes: table.Bytes
                    )),
                ],
                LeftOut: [.. plan.LeftOut.Select(table => new LeftOutTableDocument(Source: table.Source.ToString(), Reason: table.Reason))],
                Statements: [.. plan.Statements.Select(statement => statement.Text)],
                NotMade: plan.NotMade,
                Rows: plan.Rows,
                Bytes: plan.Bytes,
                EstimateSeconds: plan.Estimate.TotalSeconds,
                RowsPerSecond: plan.RowsPerSecond,
                Measured: plan.Measured,
                Lines: [.. plan.Checks.Select(ReadinessView.Of)],
                Problems:
                [
                    .. plan.Problems.Select(problem => new PlanProblemDocument(
                        Field: problem.Field,
                        Found: problem.Found,
                        Remedy: problem.Remedy,
                        Character: problem.Place,
                        Length: problem.Length
                    )),
                ],
                Delivery: plan.Delivery?.Word()
            )
        );
    }

    private static async Task<IResult> CheckAsync(string name, CrossingEngine engine, CancellationToken cancellation) =>
        engine.Status(name) is { } status
            ? Results.Ok((await engine.PlanAsync(status.Definition, cancellation)).Checks.Select(ReadinessView.Of))
            : Problems.NotFound($"crossing {name}");

    private static async Task<IResult> MeasuresAsync(
        string name,
        CrossingEngine engine,
        MeasureHistory history,
        CancellationToken cancellation,
        double window = 900
    )
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
        return Results.Ok(
            new MeasuresDocument(
                Points:
                [
                    .. points.Select(point => new MeasurePointDocument(
                        At: StatusView.Rfc3339(point.At),
                        Behind: point.Behind.TotalSeconds,
                        NotCaptured: point.NotCaptured.TotalSeconds,
                        NotSpooled: point.NotSpooled.TotalSeconds,
                        NotApplied: point.NotApplied.TotalSeconds,
                        Arriving: point.Arriving,
                        Applied: point.Applied
                    )),
                ],
                Delays:
                [
                    .. (await history.DelaysAsync(name, cancellation)).Select(delay => new DelaysDocument(
                        Window: delay.Window.TotalSeconds,
                        Transactions: delay.Transactions,
                        P50: delay.P50?.TotalSeconds,
                        P95: delay.P95?.TotalSeconds,
                        P99: delay.P99?.TotalSeconds,
                        Since: delay.Since is { } since ? StatusView.Rfc3339(since) : null
                    )),
                ]
            )
        );
    }

    private static async Task<IResult> HistoryAsync(
        string name,
        CrossingEngine engine,
        ConnectionDirectory connections,
        RunHistory runs,
        CancellationToken cancellation,
        DateTimeOffset? after = null,
        int limit = 100
    )
    {
        if (engine.Status(name) is not { } status)
        {
            return Problems.NotFound($"crossing {name}");
        }

        var format = FormatOf(status, connections);
        return Results.Ok(
            (await runs.ReadAsync(name, after, Math.Clamp(limit, 1, 1000), cancellation)).Select(run => new RunDocument(
                BeganAt: StatusView.Rfc3339(run.BeganAt),
                By: run.By,
                EndedAt: run.EndedAt is { } ended ? StatusView.Rfc3339(ended) : null,
                From: run.From is { } from ? format(from) : null,
                To: run.To is { } to ? format(to) : null,
                RowsLoaded: run.RowsLoaded,
                Changes: new RunChangesDocument(Insert: run.Inserts, Update: run.Updates, Delete: run.Deletes, Other: run.Others),
                Why: run.Why
            ))
        );
    }

    private static async Task<IResult> EventsAsync(
        string name,
        CrossingEngine engine,
        ControlStore store,
        CancellationToken cancellation,
        int limit = 100
    ) =>
        engine.Status(name) is null
            ? Problems.NotFound($"crossing {name}")
            : Results.Ok(
                (await store.EventsAsync(name, Math.Clamp(limit, 1, 1000), cancellation)).Select(happened => new EventDocument(
                    At: StatusView.Rfc3339(happened.At),
                    Kind: happened.Kind.ToString().ToLowerInvariant(),
                    Text: happened.Text,
                    By: happened.By
                ))
            );

    private static string Tag(long? version) => $"\"{version}\"";
}
