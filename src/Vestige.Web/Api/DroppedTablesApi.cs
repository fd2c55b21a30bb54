using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Undoing;
using Vestige.Web.Api.Describing;
using Vestige.Web.Api.Documents;
using Vestige.Web.Connections;

namespace Vestige.Web.Api;

/// <summary>Tables that were dropped on targets and can be restored, over HTTP.</summary>
internal static class DroppedTablesApi
{
    private const string By = "api";

    public static void Map(IEndpointRouteBuilder routes)
    {
        var group = routes.MapGroup("/api/v1/connections").WithTags("connections");
        group
            .MapGet("/{name}/dropped-tables", ListAsync)
            .Describe("listDroppedTables", "Tables that were dropped on a target and can be restored for a while, the latest first.")
            .Answers<IReadOnlyList<DroppedTablesDocument>>()
            .Refuses(404);
        group
            .MapPost("/{name}/dropped-tables/{id}/restore", RestoreAsync)
            .Describe(
                "restoreDroppedTables",
                "Restores dropped tables under their names, with the rows that they had. No crossing writes to them. Refused where a name "
                    + "is taken; nothing is restored then."
            )
            .Answers<DroppedTablesDocument>()
            .Refuses(404, 409, 424);
        group
            .MapDelete("/{name}/dropped-tables/{id}", DropAsync)
            .Describe(
                "forgetDroppedTables",
                "Drops tables for good before their time, only with confirm set to the connection's name."
            )
            .Answers<DroppedTablesDocument>()
            .Refuses(404, 409, 424);
    }

    private static async Task<IResult> ListAsync(
        string name,
        ConnectionDirectory connections,
        CrossingEngine engine,
        CancellationToken cancellation
    ) =>
        connections.Find(name) is null
            ? Problems.NotFound($"connection {name}")
            : Results.Ok((await engine.Undo.ListAsync(name, cancellation)).Select(Document).ToArray());

    private static Task<IResult> RestoreAsync(
        string name,
        string id,
        ConnectionDirectory connections,
        CrossingEngine engine,
        CancellationToken cancellation
    ) => DoAsync(name, connections, () => engine.Undo.RestoreAsync(name, id, By, cancellation));

    private static Task<IResult> DropAsync(
        string name,
        string id,
        ConnectionDirectory connections,
        CrossingEngine engine,
        CancellationToken cancellation,
        string? confirm = null
    ) =>
        DoAsync(name, connections, () =>
            confirm == name
                ? engine.Undo.DropAsync(name, id, By, cancellation)
                : throw new RequestRefusedException("The tables would be lost.")
                {
                    Remedy = "Send it again with confirm set to the connection's name.",
                }
        );

    private static async Task<IResult> DoAsync(string name, ConnectionDirectory connections, Func<Task<UndoEntry>> request) =>
        connections.Find(name) is null
            ? Problems.NotFound($"connection {name}")
            : Results.Ok(Document(await request()));

    private static DroppedTablesDocument Document(UndoEntry entry) =>
        new(
            entry.Id,
            [.. entry.Tables.Select(table => table.ToString())],
            entry.Crossing,
            entry.Why,
            entry.By,
            entry.At,
            entry.Until
        );
}
