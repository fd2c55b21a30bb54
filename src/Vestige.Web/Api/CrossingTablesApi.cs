using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Web.Api.Describing;
using Vestige.Web.Api.Documents;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;

namespace Vestige.Web.Api;

/// <summary>The tables of started crossings over HTTP: added, removed, and those whose schema change waits for a person.</summary>
internal static class CrossingTablesApi
{
    private const string By = "api";

    /// <summary>Adds them to the group of crossings.</summary>
    public static void Map(RouteGroupBuilder group)
    {
        group
            .MapPost("/{name}/tables", AddAsync)
            .Describe(
                "addTables",
                "Adds tables of the source to a crossing that was started. They are loaded while the others follow. Where that destroys "
                    + "something on the target, only with confirm set to the crossing's name."
            )
            .Answers<StateDocument>()
            .Refuses(404, 409, 422, 424);
        group
            .MapDelete("/{name}/tables", RemoveAsync)
            .Describe(
                "removeTables",
                "Removes tables, each given as table=schema.table, from a crossing. Their copies on the target stay; with keep=false they "
                    + "are dropped, only with confirm set to the crossing's name. With undoHours, 1 to 720, they can be restored that long."
            )
            .Answers<StateDocument>()
            .Refuses(404, 409, 424);
        group
            .MapGet("/{name}/schema-changes", WaitingAsync)
            .Describe("listWaitingSchemaChanges", "Changes of source tables that wait for a person, with the tables that they hold.")
            .Answers<IReadOnlyList<WaitingChangeDocument>>()
            .Refuses(404);
        group
            .MapPost("/{name}/schema-changes/{id}/agree", (string name, string id, CrossingEngine engine, CancellationToken cancellation) =>
                AgreeAsync(name, new AgreeBody([id]), engine, cancellation)
            )
            .Describe(
                "agreeToSchemaChange",
                "Agrees to what was done to a held table at the source: it is done on the target too, and the table continues from where "
                    + "it was held. Refused where its changes since then are not kept."
            )
            .Answers<StateDocument>()
            .Refuses(404, 409, 424);
        group
            .MapPost("/{name}/schema-changes/{id}/leave-out", LeaveOutAsync)
            .Describe(
                "leaveOutSchemaChange",
                "Lets a held table continue without what was done to it, and adds a rule for that to the definition. Refused where "
                    + "anything else was done than adding, dropping or renaming columns."
            )
            .Answers<StateDocument>()
            .Refuses(404, 409, 424);
        group
            .MapPost("/{name}/agree", AgreeAsync)
            .Describe(
                "agreeToSchemaChanges",
                "Agrees to the changes of several held tables at once. Where one of them is refused, nothing is done."
            )
            .Answers<StateDocument>()
            .Refuses(404, 409, 422, 424);
    }

    private static Task<IResult> AddAsync(
        string name,
        TablesBody body,
        CrossingEngine engine,
        CancellationToken cancellation,
        string? confirm = null
    ) =>
        CrossingRunApi.DoAsync(name, engine, () =>
            engine.Tables.AddAsync(name, TablesOf.Named(null, body.Tables), By, confirm, cancellation)
        );

    private static Task<IResult> RemoveAsync(
        string name,
        string[] table,
        CrossingEngine engine,
        CancellationToken cancellation,
        bool keep = true,
        int? undoHours = null,
        string? confirm = null
    ) =>
        CrossingRunApi.DoAsync(name, engine, () =>
            keep || confirm == name
                ? engine.Tables.RemoveAsync(
                    name,
                    TablesOf.Named(engine.Status(name), table),
                    keep ? null : new DroppedCopies(undoHours),
                    By,
                    cancellation
                )
                : throw new RequestRefusedException("The copies on the target would be dropped.")
                {
                    Remedy = "Send it again with confirm set to the crossing's name.",
                }
        );

    private static Task<IResult> AgreeAsync(string name, AgreeBody body, CrossingEngine engine, CancellationToken cancellation) =>
        CrossingRunApi.DoAsync(name, engine, () =>
            engine.Held.AgreeAsync(name, TablesOf.Named(engine.Status(name), body.Tables), By, cancellation)
        );

    private static Task<IResult> LeaveOutAsync(string name, string id, CrossingEngine engine, CancellationToken cancellation) =>
        CrossingRunApi.DoAsync(name, engine, () =>
            engine.Held.LeaveOutAsync(name, TablesOf.Named(engine.Status(name), [id]), By, cancellation)
        );

    private static async Task<IResult> WaitingAsync(
        string name,
        CrossingEngine engine,
        ConnectionDirectory connections,
        CancellationToken cancellation
    )
    {
        if (engine.Status(name) is not { } status)
        {
            return Problems.NotFound($"crossing {name}");
        }

        var format = CrossingApi.FormatOf(status, connections);
        var waiting = new List<WaitingChangeDocument>();
        foreach (var table in status.Tables.Where(table => table.MayContinue))
        {
            var statements = HeldCause.StatementsOf(table.Cause!);
            waiting.Add(
                new WaitingChangeDocument(
                    table.Source.ToString(),
                    table.HeldAt is { } at ? format(at) : "",
                    HeldCause.WhatOf(table.Cause!),
                    statements.Length == 0 ? [] : statements.Split("; "),
                    await engine.Held.VersionAsync(name, table.Source, cancellation) is { MayBeLeftOut: true }
                )
            );
        }

        return Results.Ok(waiting);
    }
}
