using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Web.Api.Describing;
using Vestige.Web.Api.Documents;
using Vestige.Web.Connections;
using Vestige.Web.Views;

namespace Vestige.Web.Api;

/// <summary>The bench and the drills of connections over HTTP.</summary>
public static class DrillApi
{
    public static void Map(IEndpointRouteBuilder routes)
    {
        var group = routes.MapGroup("/api/v1/connections/{name}/drills").WithTags("bench");
        group
            .MapGet("/", List)
            .Describe("listDrills", "The faults that can be put into a connected system on purpose, and those that are on.")
            .Answers<IReadOnlyList<DrillDocument>>()
            .Refuses(404, 424);
        group
            .MapPost("/{drill}", SetAsync)
            .Describe("setDrill", "Puts a fault into a connected system, or lifts it. Drills end with the process.")
            .Answers<DrillSetDocument>()
            .Refuses(404, 409, 424);
        routes
            .MapPost("/api/v1/bench/{connection}", RunAsync)
            .WithTags("bench")
            .Describe("runStatements", "Runs statements on a connection that has a bench, in one transaction.")
            .Answers<BenchDocument>()
            .Refuses(404, 409);
    }

    /// <summary>What a connection has of a kind; null where it has none, or where there is no such connection.</summary>
    private static T? PortOf<T>(ConnectionDirectory connections, string name)
        where T : class => connections.Find(name) is null ? null : connections.Find<T>(name);

    private static IResult List(string name, ConnectionDirectory connections) =>
        PortOf<IDrills>(connections, name) is not { } drills
            ? Problems.NotFound($"connection {name} that takes drills")
            : Results.Ok(drills.All.Select(DrillDocument.Of));

    private static async Task<IResult> SetAsync(
        string name,
        string drill,
        DrillBody body,
        ConnectionDirectory connections,
        CrossingEngine engine,
        HttpContext context,
        CancellationToken cancellation
    )
    {
        if (PortOf<IDrills>(connections, name) is not { } drills)
        {
            return Problems.NotFound($"connection {name} that takes drills");
        }

        var done = await drills.SetAsync(drill, body.Values ?? [], cancellation);
        await engine.Events.OfConnectionAsync(name, EventKind.Note, done, Who.Of(context));
        return Results.Ok(new DrillSetDocument(Done: done));
    }

    private static async Task<IResult> RunAsync(
        string connection,
        BenchBody body,
        ConnectionDirectory connections,
        CancellationToken cancellation
    )
    {
        if (PortOf<IBench>(connections, connection) is not { } bench)
        {
            return Problems.NotFound($"connection {connection} with a bench");
        }

        var result = await bench.RunAsync(body.Statement, cancellation);
        var log = connections.Source(connection).Log;
        return Results.Ok(
            new BenchDocument(
                Columns: result.Columns,
                Rows: result.Rows,
                More: result.More,
                Changed: result.Changed,
                Changes:
                [
                    .. result.Changes.Select(change => new BenchChangeDocument(
                        Table: change.Table.ToString(),
                        Kind: change.Kind.ToString().ToLowerInvariant(),
                        Key: change.Key
                    )),
                ],
                Position: result.Position is { } position ? log.Format(position) : null,
                Took: result.Took.TotalSeconds
            )
        );
    }
}
