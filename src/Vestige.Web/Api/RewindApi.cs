using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Commands;
using Vestige.Engine.Rewinding;
using Vestige.Web.Api.Describing;
using Vestige.Web.Api.Documents;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;
using Vestige.Web.Definitions;

namespace Vestige.Web.Api;

/// <summary>The past of crossings over HTTP.</summary>
internal static class RewindApi
{
    private const string By = "api";

    /// <summary>Adds it to the group of crossings.</summary>
    public static void Map(RouteGroupBuilder group)
    {
        group
            .MapPost("/{name}/try", TryAsync)
            .Accepts<CrossingDefinition>("application/json", DefinitionBody.Yaml)
            .Describe(
                "tryDefinition",
                "Says what another definition of a started crossing would have made of the last hours of changes: left out, changed, "
                    + "refused. Reads only the spool; nothing is changed."
            )
            .Answers<TrialDocument>()
            .Refuses(404, 409, 422);
        group
            .MapPost("/{name}/as-of", AsOfAsync)
            .Describe(
                "copyAsOf",
                "Copies tables of a crossing to a target as they were at a position or a time, and starts that as a crossing of its own. "
                    + "Refused where the spool does not hold every row as it was before each change since."
            )
            .Answers<StateDocument>()
            .Refuses(404, 409, 422, 424);
        group
            .MapPost("/{name}/rewind/plan", PlanAsync)
            .Describe("planRewind", "Which changes since a position would be applied again, and which cannot be.")
            .Answers<RewindDocument>()
            .Refuses(404, 409, 422, 424);
        group
            .MapPost("/{name}/rewind", RewindAsync)
            .Describe(
                "rewindCrossing",
                "Applies the changes since a position or a time again: each row that they changed gets its present values, whatever the "
                    + "target has. The other tables continue. An event says when it is done. Refused where a named table cannot be."
            )
            .Answers<RewindDocument>()
            .Refuses(404, 409, 422, 424);
        group
            .MapGet("/{name}/rewind", Pending)
            .Describe("getRewind", "What is being applied again; nothing where that is done.")
            .Answers<IReadOnlyList<PendingRewindDocument>>()
            .Refuses(404);
        group
            .MapDelete("/{name}/rewind", StopAsync)
            .Describe("stopRewind", "Stops applying changes again. What was written stays, and is right.")
            .Answers<StateDocument>()
            .Refuses(404, 409);
    }

    private static Task<IResult> PlanAsync(
        string name,
        RewindBody body,
        CrossingEngine engine,
        ConnectionDirectory connections,
        CancellationToken cancellation
    ) =>
        PlannedAsync(name, body, engine, connections, (place, tables) => engine.Rewinds.PlanAsync(name, place, tables, cancellation));

    private static Task<IResult> RewindAsync(
        string name,
        RewindBody body,
        CrossingEngine engine,
        ConnectionDirectory connections,
        CancellationToken cancellation
    ) =>
        PlannedAsync(name, body, engine, connections, (place, tables) => engine.Rewinds.AskAsync(name, place, tables, By, cancellation));

    private static async Task<IResult> PlannedAsync(
        string name,
        RewindBody body,
        CrossingEngine engine,
        ConnectionDirectory connections,
        Func<StartPlace, IReadOnlyList<TableName>, Task<RewindPlan>> plan
    )
    {
        if (engine.Status(name) is not { } status)
        {
            return Problems.NotFound($"crossing {name}");
        }

        if ((body.Position is null) == (body.Time is null))
        {
            return Problems.Of(422, "rewind", "Give either a position or a time.", "Send position or time.", "position");
        }

        var made = await plan(new StartPlace(body.Position, body.Time), TablesOf.Named(status, body.Tables));
        return Results.Ok(
            new RewindDocument(
                CrossingApi.FormatOf(status, connections)(made.From),
                made.Bytes,
                [.. made.Tables.Select(RewindTableDocument.Of)]
            )
        );
    }

    private static IResult Pending(string name, CrossingEngine engine, ConnectionDirectory connections)
    {
        if (engine.Status(name) is not { } status)
        {
            return Problems.NotFound($"crossing {name}");
        }

        var format = CrossingApi.FormatOf(status, connections);
        IReadOnlyList<PendingRewindDocument> found = engine.Rewinds.PendingOf(name) is { } one
            ?
            [
                new PendingRewindDocument(
                    format(one.From),
                    [.. one.Tables.Select(table => table.ToString())],
                    one.By,
                    StatusView.Rfc3339(one.At)
                ),
            ]
            : [];
        return Results.Ok(found);
    }

    private static Task<IResult> StopAsync(string name, CrossingEngine engine, CancellationToken cancellation) =>
        CrossingRunApi.DoAsync(name, engine, () => engine.Rewinds.StopAsync(name, By, cancellation));

    private static async Task<IResult> TryAsync(
        string name,
        DefinitionBody sent,
        CrossingEngine engine,
        CancellationToken cancellation,
        double hours = 24
    )
    {
        if (engine.Status(name) is null)
        {
            return Problems.NotFound($"crossing {name}");
        }

        if (sent.Definition is not { } definition)
        {
            return Problems.Definition(sent.Problems);
        }

        if (definition.Name != name)
        {
            return Problems.Of(422, "definition", "The name differs from the one in the path.", "Send it with that name.", "name");
        }

        return hours is > 0 and <= 24 * 366
            ? Results.Ok(TrialDocument.Of(await engine.Past.TryAsync(definition, TimeSpan.FromHours(hours), cancellation)))
            : Problems.Of(422, "range", $"hours is {hours}.", "Give hours above 0, up to 8784.", "hours");
    }

    private static async Task<IResult> AsOfAsync(
        string name,
        AsOfBody body,
        CrossingEngine engine,
        ConnectionDirectory connections,
        TimeProvider clock,
        CancellationToken cancellation
    )
    {
        if (engine.Status(name) is not { } status)
        {
            return Problems.NotFound($"crossing {name}");
        }

        if (body.Tables is not { Count: > 0 })
        {
            return Problems.Of(422, "asOf", "No table is named.", "Name tables as schema.table.", "tables");
        }

        var definition = status.Definition.AsOf(
            body.Name ?? AsOfCopies.FreeName(engine, name, clock.GetUtcNow()),
            body.Target ?? "",
            TablesOf.Named(status, body.Tables),
            new StartPlace(body.Position, body.Time),
            body.Into
        );
        if (CrossingApi.Check(definition, connections) is { Count: > 0 } problems)
        {
            return Problems.Definition(problems);
        }

        await AsOfCopies.StartAsync(engine, definition, By, cancellation);
        return Results.Ok(new StateDocument(definition.Name, engine.Status(definition.Name)!.State.Word()));
    }
}
