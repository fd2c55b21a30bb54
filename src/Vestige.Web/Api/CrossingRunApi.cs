using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Web.Api.Describing;
using Vestige.Web.Api.Documents;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;

namespace Vestige.Web.Api;

/// <summary>Starting, stopping and loading crossings over HTTP.</summary>
internal static class CrossingRunApi
{
    private const string By = "api";

    /// <summary>Adds them to the group of crossings.</summary>
    public static void Map(RouteGroupBuilder group)
    {
        group
            .MapPost("/{name}/start", (string name, CrossingEngine engine, CancellationToken cancellation, string? confirm = null) =>
                DoAsync(name, engine, () => engine.RunAsync(name, By, cancellation, confirm))
            )
            .Describe(
                "startCrossing",
                "Starts a crossing. Where that destroys something on the target, only with confirm set to the crossing's name."
            )
            .Answers<StateDocument>()
            .Refuses(404, 409, 424);
        group
            .MapPost(
                "/{name}/keep-log",
                async (string name, CrossingEngine engine, ConnectionDirectory connections, CancellationToken cancellation) =>
                    engine.Status(name) is { } status
                        ? Results.Ok(
                            new KeptLogDocument(
                                Name: name,
                                After: connections
                                    .Source(status.Definition.Source)
                                    .Log.Format(await engine.KeepLogAsync(name, By, cancellation))
                            )
                        )
                        : Problems.NotFound($"crossing {name}")
            )
            .Describe("keepLog", "Keeps the source's log for a draft that carries changes only, and says after which position.")
            .Answers<KeptLogDocument>()
            .Refuses(404, 409, 424);
        group
            .MapPost("/{name}/resume", (string name, CrossingEngine engine, CancellationToken cancellation) =>
                DoAsync(name, engine, () => engine.RunAsync(name, By, cancellation))
            )
            .Describe("resumeCrossing", "Resumes where the crossing stopped.")
            .Answers<StateDocument>()
            .Refuses(404, 409, 424);
        group
            .MapPost("/{name}/retry", (string name, CrossingEngine engine) => DoAsync(name, engine, () =>
                {
                    engine.RetryNow(name);
                    return Task.CompletedTask;
                }))
            .Describe("retryNow", "Makes the next attempt at once where the crossing waits for the source or the target.")
            .Answers<StateDocument>()
            .Refuses(404, 409);
        group
            .MapPost("/{name}/pause", (string name, CrossingEngine engine, CancellationToken cancellation) =>
                DoAsync(name, engine, () => engine.PauseAsync(name, By, cancellation))
            )
            .Describe("pauseCrossing", "Pauses after the transaction in hand. The source's log is still spooled.")
            .Answers<StateDocument>()
            .Refuses(404, 409);
        group
            .MapPost("/{name}/stop", StopAsync)
            .Describe(
                "stopCrossing",
                "Stops. With drain all that is captured is applied first, up to a mark where one is given; with transaction the one "
                    + "in hand; with now nothing more."
            )
            .Answers<StateDocument>()
            .Refuses(404, 409, 422, 424);
        group
            .MapPost("/steer", SteerAsync)
            .Describe("steerCrossings", "Pauses, resumes or drains several crossings, by name or by tag, and says what came of each.")
            .Answers<IReadOnlyList<SteeredDocument>>()
            .Refuses(422);
        group
            .MapPost("/{name}/reload", ReloadAsync)
            .Describe(
                "reloadTables",
                "Loads tables again, all where none is named. The others keep following, and the rows of a table stay until those that are "
                    + "loaded replace them; of tables that keep history or share a target table, and of all, they are deleted first. With "
                    + "inPlace that is refused."
            )
            .Answers<StateDocument>()
            .Refuses(404, 409, 422, 424);
    }

    private static async Task<IResult> StopAsync(
        string name,
        StopBody body,
        CrossingEngine engine,
        ConnectionDirectory connections,
        CancellationToken cancellation
    )
    {
        if (engine.Status(name) is not { } status)
        {
            return Problems.NotFound($"crossing {name}");
        }

        StopMode? manner = body.Manner switch
        {
            "drain" => StopMode.Drain,
            "transaction" => StopMode.Transaction,
            "now" => StopMode.Now,
            _ => null,
        };
        if (manner is null)
        {
            return Problems.Of(422, "stop", $"'{body.Manner}' is not a way to stop.", "Use drain, transaction or now.", "manner");
        }

        if (body.Mark is not { } wanted)
        {
            return await DoAsync(name, engine, () => engine.StopAsync(name, manner.Value, By, cancellation));
        }

        var given = (wanted.Position is null ? 0 : 1) + (wanted.Time is null ? 0 : 1) + (wanted.AsOfNow == true ? 1 : 0);
        var position = wanted.Position is null ? null : engine.Positions.Parse(status.Definition.Source, wanted.Position);
        if (given != 1 || manner != StopMode.Drain || (wanted.Position is not null && position is null))
        {
            return Problems.Of(
                422,
                "stop",
                "The mark cannot be used.",
                "Give one of: a position in the source's notation, a time, or asOfNow. The manner must be drain.",
                "mark"
            );
        }

        return await DoAsync(name, engine, () =>
            engine.StopAtAsync(name, wanted.AsOfNow == true ? null : new StopMark(position, wanted.Time), By, cancellation)
        );
    }

    private static async Task<IResult> SteerAsync(SteerBody body, CrossingEngine engine, CancellationToken cancellation)
    {
        if (!SteerSeveral.Actions.Contains(body.Action))
        {
            return Problems.Of(422, "steer", $"'{body.Action}' cannot be asked of several.", "Use pause, resume or stop.", "action");
        }

        var tagged = body.Tag is null
            ? []
            : engine.Statuses.Where(status => status.Definition.Tags?.Contains(body.Tag) == true).Select(status => status.Name);
        var outcomes = await new SteerSeveral(engine).DoAsync([.. (body.Names ?? []).Union(tagged)], body.Action, By, cancellation);
        return Results.Ok(
            outcomes.Select(outcome => new SteeredDocument(Name: outcome.Crossing, Done: outcome.Problem is null, Problem: outcome.Problem))
        );
    }

    private static Task<IResult> ReloadAsync(string name, ReloadBody body, CrossingEngine engine, CancellationToken cancellation) =>
        DoAsync(name, engine, () =>
        {
            var tables = TablesOf.Named(engine.Status(name), body.Tables);
            if (body is { InPlace: true, UndoHours: not null })
            {
                throw new RequestRefusedException("Tables that are loaded again in place are not dropped, so there is nothing to restore.")
                {
                    Remedy = "Leave inPlace or undoHours out.",
                };
            }

            if (body.InPlace && engine.ReloadPlanOf(name, tables) is { IsInPlace: false } plan)
            {
                throw new RequestRefusedException(
                    tables.Count == 0 ? "All tables cannot be loaded again in place."
                    : plan.OthersGoOn ? $"{plan.Emptied[0]} cannot be loaded again in place: it keeps history or shares a target table."
                    : "The other tables of this crossing would wait for the load."
                )
                {
                    Remedy = tables.Count == 0 ? "Name the tables." : "Leave inPlace out.",
                };
            }

            return engine.ReloadAsync(name, tables, By, cancellation, body.UndoHours);
        });

    /// <summary>Does what was asked of a crossing and answers with its state.</summary>
    internal static async Task<IResult> DoAsync(string name, CrossingEngine engine, Func<Task> request)
    {
        if (engine.Status(name) is null)
        {
            return Problems.NotFound($"crossing {name}");
        }

        await request();
        return engine.Status(name) is { } after
            ? Results.Ok(new StateDocument(Name: name, State: after.State.Word()))
            : Problems.NotFound($"crossing {name}");
    }
}
