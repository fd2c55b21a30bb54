using Vestige.Engine.Backfilling;
using Vestige.Engine.Commands;
using Vestige.Web.Api.Describing;
using Vestige.Web.Api.Documents;
using Vestige.Web.Crossings;

namespace Vestige.Web.Api;

/// <summary>Rows of a range, or columns, that are written as the source has them, over HTTP.</summary>
internal static class BackfillApi
{
    private const string Actor = "api";

    /// <summary>Adds it to the group of crossings.</summary>
    public static void Map(RouteGroupBuilder group)
    {
        group
            .MapPost("/{name}/backfill", StartAsync)
            .Describe(
                "backfillTable",
                "Writes rows of a key range, or some columns, as the source has them, while the crossing follows; only what differs is "
                    + "written. An event says when it is done. The table needs a key of whole numbers."
            )
            .Answers<StateDocument>()
            .Refuses(404, 409, 422);
        group
            .MapGet("/{name}/backfill", Running)
            .Describe("getBackfill", "The backfill that is running; nothing where none is.")
            .Answers<IReadOnlyList<BackfillDocument>>()
            .Refuses(404);
        group
            .MapDelete("/{name}/backfill", StopAsync)
            .Describe("stopBackfill", "Stops the backfill. What was written stays, and is right.")
            .Answers<StateDocument>()
            .Refuses(404, 409);
    }

    private static Task<IResult> StartAsync(string name, BackfillBody body, CrossingEngine engine, CancellationToken cancellation) =>
        body.Table is not { Length: > 0 } table
            ? Task.FromResult(Problems.Of(422, "backfill", "No table is named.", "Name one as schema.table.", "table"))
            : CrossingRunApi.DoAsync(
                name,
                engine,
                () =>
                    engine.Reconcile.Backfills.StartAsync(
                        new Backfill(
                            name,
                            TablesOf.Named(engine.Status(name), table),
                            body.Range?.From,
                            body.Range?.Before,
                            body.Columns ?? [],
                            Actor,
                            default
                        )
                        {
                            DeletesExtra = body.DeleteExtra,
                        },
                        cancellation
                    )
            );

    private static IResult Running(string name, CrossingEngine engine)
    {
        if (engine.Status(name) is null)
        {
            return Problems.NotFound($"crossing {name}");
        }

        IReadOnlyList<BackfillDocument> running = engine.Reconcile.Backfills.Running(name) is { } one ? [BackfillDocument.Made(one)] : [];
        return Results.Ok(running);
    }

    private static Task<IResult> StopAsync(string name, CrossingEngine engine) =>
        CrossingRunApi.DoAsync(name, engine, () => engine.Reconcile.Backfills.StopAsync(name));
}
