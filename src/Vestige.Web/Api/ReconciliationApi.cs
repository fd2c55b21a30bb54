using System.Globalization;
using CsvHelper;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Reconciling;
using Vestige.Web.Api.Describing;
using Vestige.Web.Api.Documents;
using Vestige.Web.Connections;
using Vestige.Web.Hosting;
using Vestige.Web.Reconciling;

namespace Vestige.Web.Api;

/// <summary>Comparing both sides, and repairing what differs, over HTTP.</summary>
public static class ReconciliationApi
{
    private const string By = "api";
    private const int MostListed = 1000;

    public static void Map(IEndpointRouteBuilder routes)
    {
        var group = routes.MapGroup("/api/v1/crossings/{name}/reconciliations").WithTags("reconciliations");
        group
            .MapPost("/", StartAsync)
            .Describe(
                "startReconciliation",
                "Compares both sides: all tables, or those named, a range of keys, a sample, or what changed since the last "
                    + "comparison. Answers with the id."
            )
            .Answers<ReconciliationIdDocument>(202)
            .Refuses(404, 409, 422);
        group
            .MapGet("/", ListAsync)
            .Describe("listReconciliations", "The comparisons, the latest first.")
            .Answers<IReadOnlyList<ReconciliationDocument>>()
            .Refuses(404);
        group
            .MapGet("/{id}", GetAsync)
            .Describe("getReconciliation", "What a comparison found, table by table, with its segments.")
            .Answers<ReconciliationDocument>()
            .Refuses(404);
        group
            .MapGet("/{id}/rows", RowsAsync)
            .Describe(
                "listDifferences",
                "The rows of a table that differ, with both sides. Of masked values only type and length are shown."
            )
            .Answers<DifferencesDocument>()
            .Refuses(404, 422);
        group
            .MapGet("/{id}/rows.csv", CsvAsync)
            .Describe("exportDifferences", "All listed rows that differ, as CSV.")
            .Answers<string>(200, "text/csv")
            .Refuses(404);
        group
            .MapGet("/{id}/summary.json", SummaryAsync)
            .Describe(
                "getSignedSummary",
                "What a comparison found, without rows, signed by this installation's key (JWS, RFC 7515), with the public part of the key."
            )
            .Answers<SignedSummaryDocument>()
            .Refuses(404);
        group
            .MapPost("/{id}/cancel", (string name, string id, CrossingEngine engine, CancellationToken cancellation) =>
                CancelAsync(name, id, engine, cancellation)
            )
            .Describe("cancelReconciliation", "Cancels a comparison at work. What it found stays.")
            .Answers<ReconciliationIdDocument>()
            .Refuses(404);
        group
            .MapPost("/{id}/repair", RepairAsync)
            .Describe(
                "repairRows",
                "Repairs rows on the target: those of a table at the given places, or all. Rows that only the target has are deleted "
                    + "only with delete set to the crossing's name. The tables are compared again at once; comparedAgain is the id."
            )
            .Answers<RepairDocument>()
            .Refuses(404, 409, 422, 424);
        var repairs = routes.MapGroup("/api/v1/crossings/{name}/repairs").WithTags("reconciliations");
        repairs
            .MapGet("/", async (string name, CrossingEngine engine, ConnectionDirectory connections, CancellationToken cancellation) =>
                engine.Status(name) is { } status
                    ? Results.Ok(
                        (await engine.Reconcile.Repairs.ListAsync(name, cancellation)).Select(repair =>
                            Of(repair, CrossingApi.FormatOf(status, connections))
                        )
                    )
                    : Problems.NotFound($"crossing {name}")
            )
            .Describe("listRepairs", "The repairs, the latest first.")
            .Answers<IReadOnlyList<RepairDocument>>()
            .Refuses(404);
        repairs
            .MapPost(
                "/{id}/undo",
                async (string name, string id, CrossingEngine engine, ConnectionDirectory connections, CancellationToken cancellation) =>
                    engine.Status(name) is { } status
                        ? await UndoAsync(status, id, engine, connections, cancellation)
                        : Problems.NotFound($"crossing {name}")
            )
            .Describe("undoRepair", "Puts the rows of a repair back, as far as they have not changed since.")
            .Answers<RepairDocument>()
            .Refuses(404, 409, 424);
    }

    private static async Task<IResult> StartAsync(
        string name,
        ReconciliationBody? body,
        CrossingEngine engine,
        CancellationToken cancellation
    )
    {
        if (engine.Status(name) is null)
        {
            return Problems.NotFound($"crossing {name}");
        }

        var tables = new List<TableName>();
        foreach (var text in body?.Tables ?? [])
        {
            try
            {
                tables.Add(TableName.Parse(text));
            }
            catch (FormatException exception)
            {
                return Problems.Of(422, "field", exception.Message, "Name tables as schema.table.", "tables");
            }
        }

        var id = await engine.Reconcile.StartAsync(
            name,
            new ComparisonScope(tables, body?.From, body?.Before, body?.Sample, body?.Changed ?? false),
            By,
            cancellation
        );
        return Results.Accepted($"/api/v1/crossings/{name}/reconciliations/{id}", new ReconciliationIdDocument(Id: id));
    }

    private static async Task<IResult> ListAsync(
        string name,
        CrossingEngine engine,
        ConnectionDirectory connections,
        CancellationToken cancellation
    ) =>
        engine.Status(name) is { } status
            ? Results.Ok(
                (await engine.Reconcile.ListAsync(name, cancellation)).Select(one =>
                    Of(one, CrossingApi.FormatOf(status, connections), withSegments: false)
                )
            )
            : Problems.NotFound($"crossing {name}");

    private static async Task<IResult> GetAsync(
        string name,
        string id,
        CrossingEngine engine,
        ConnectionDirectory connections,
        CancellationToken cancellation
    ) =>
        await FoundAsync(name, id, engine, cancellation) is { } found
            ? Results.Ok(Of(found.Found, CrossingApi.FormatOf(found.Status, connections), withSegments: true))
            : Problems.NotFound($"comparison {id} of {name}");

    private static async Task<IResult> RowsAsync(
        string name,
        string id,
        CrossingEngine engine,
        CancellationToken cancellation,
        string? table = null,
        int after = -1,
        int limit = 100
    )
    {
        if (await FoundAsync(name, id, engine, cancellation) is not { } found)
        {
            return Problems.NotFound($"comparison {id} of {name}");
        }

        if (
            found.Found.Tables.FirstOrDefault(one => table is null || one.Into.ToString() == table || one.Source.ToString() == table)
            is not { } chosen
        )
        {
            return Problems.Of(422, "field", $"{table} was not compared.", "Name a table of the comparison.", "table");
        }

        var rows = chosen
            .Rows.Select((row, place) => new DifferenceView(chosen, row, place))
            .Skip(Math.Max(0, after + 1))
            .Take(Math.Clamp(limit, 1, MostListed));
        return Results.Ok(
            new DifferencesDocument(
                Table: chosen.Into.ToString(),
                Total: chosen.Rows.Count,
                More: chosen.NotListed,
                Rows:
                [
                    .. rows.Select(row => new DifferenceDocument(
                        Place: row.Place,
                        Kind: row.Word,
                        Key: row.Key,
                        Columns: row.Row.Columns,
                        Times: row.Row.Times,
                        Cause: row.Row.Cause,
                        Values:
                        [
                            .. row.Values.Select(value => new DifferingValueDocument(
                                Column: value.Column,
                                Expected: Text(value.Expected),
                                Found: Text(value.Found),
                                Differs: value.Differs,
                                Masked: value.Masked
                            )),
                        ],
                        Statement: engine.Reconcile.Repairs.StatementFor(name, chosen, row.Row)
                    )),
                ]
            )
        );
    }

    private static async Task<IResult> CsvAsync(string name, string id, CrossingEngine engine, CancellationToken cancellation)
    {
        if (await FoundAsync(name, id, engine, cancellation) is not { } found)
        {
            return Problems.NotFound($"comparison {id} of {name}");
        }

        return Results.Stream(
            async stream =>
            {
                await using var csv = CsvWriter.Create(stream, new CsvWriterOptions(), leaveOpen: true);
                await csv.WriteRecordAsync(["table", "kind", "key", "column", "expected", "found", "times", "cause"], cancellation);
                foreach (
                    var row in found.Found.Tables.SelectMany(table =>
                        table.Rows.Select((row, place) => new DifferenceView(table, row, place))
                    )
                )
                {
                    foreach (var value in row.Row.Columns.Count > 0 ? row.Values.Where(value => value.Differs) : row.Values)
                    {
                        await csv.WriteRecordAsync(
                            [
                                row.Table.Into.ToString(),
                                row.Word,
                                row.Key,
                                value.Column,
                                Text(value.Expected) ?? "",
                                Text(value.Found) ?? "",
                                row.Row.Times.ToString(CultureInfo.InvariantCulture),
                                row.Row.Cause ?? "",
                            ],
                            cancellation
                        );
                    }
                }
            },
            "text/csv; charset=utf-8",
            $"{name}-{id}.csv"
        );
    }

    private static async Task<IResult> SummaryAsync(
        string name,
        string id,
        CrossingEngine engine,
        ConnectionDirectory connections,
        SummarySigner signer,
        CancellationToken cancellation
    ) =>
        await FoundAsync(name, id, engine, cancellation) is { } found
            ? Results.File(
                signer.Sign(Of(found.Found, CrossingApi.FormatOf(found.Status, connections), withSegments: false)),
                "application/json",
                $"{name}-{id}.json"
            )
            : Problems.NotFound($"comparison {id} of {name}");

    private static async Task<IResult> CancelAsync(string name, string id, CrossingEngine engine, CancellationToken cancellation)
    {
        if (engine.Reconcile.Running(name)?.Id != id)
        {
            return Problems.NotFound($"comparison {id} of {name} at work");
        }

        await engine.Reconcile.CancelAsync(name, By, cancellation);
        return Results.Ok(new ReconciliationIdDocument(Id: id));
    }

    private static async Task<IResult> RepairAsync(
        string name,
        string id,
        RepairBody body,
        CrossingEngine engine,
        ConnectionDirectory connections,
        CancellationToken cancellation
    )
    {
        if (await FoundAsync(name, id, engine, cancellation) is not { } found)
        {
            return Problems.NotFound($"comparison {id} of {name}");
        }

        if (body.Delete is not null && body.Delete != name)
        {
            throw new RequestRefusedException($"Rows that only the target has are deleted only with delete: {name}.")
            {
                Remedy = "Give the crossing's name, or leave the field out.",
            };
        }

        var chosen = found
            .Found.Tables.Where(table => body.Table is null || table.Into.ToString() == body.Table)
            .SelectMany(table => table.Rows.Select((_, place) => (table.Into, place)))
            .Where(one => body.Rows is null || body.Rows.Contains(one.place))
            .ToHashSet();
        var repair = await engine.Reconcile.Repairs.RepairAsync(name, found.Found, chosen, body.Delete is not null, By, cancellation);
        return Results.Ok(
            Of(
                repair,
                CrossingApi.FormatOf(found.Status, connections),
                await engine.Reconcile.CompareAgainAsync(name, repair, By, cancellation)
            )
        );
    }

    private static async Task<IResult> UndoAsync(
        CrossingStatus status,
        string id,
        CrossingEngine engine,
        ConnectionDirectory connections,
        CancellationToken cancellation
    )
    {
        var repair = await engine.Reconcile.Repairs.UndoAsync(status.Name, id, By, cancellation);
        return Results.Ok(
            Of(
                repair,
                CrossingApi.FormatOf(status, connections),
                await engine.Reconcile.CompareAgainAsync(status.Name, repair, By, cancellation)
            )
        );
    }

    private static async Task<(CrossingStatus Status, Reconciliation Found)?> FoundAsync(
        string name,
        string id,
        CrossingEngine engine,
        CancellationToken cancellation
    ) =>
        engine.Status(name) is { } status && await engine.Reconcile.FindAsync(name, id, cancellation) is { } found ? (status, found) : null;

    private static string? Text(IReadOnlyList<(string Text, bool Differs)>? pieces) =>
        pieces is null ? null : string.Concat(pieces.Select(piece => piece.Text));

    private static ReconciliationDocument Of(Reconciliation found, Func<LogPosition, string> format, bool withSegments) =>
        new ReconciliationDocument(
            Id: found.Id,
            Crossing: found.Crossing,
            State: found.State.ToString().ToLowerInvariant(),
            Note: found.Note,
            By: found.By,
            BeganAt: StatusView.Rfc3339(found.BeganAt),
            EndedAt: found.EndedAt is { } ended ? StatusView.Rfc3339(ended) : null,
            Scope: new ScopeDocument(
                Tables: [.. found.Scope.Tables.Select(table => table.ToString())],
                From: found.Scope.From,
                Before: found.Scope.Before,
                Sample: found.Scope.Sample,
                Changed: found.Scope.Changed
            ),
            Position: found.Position is { } position ? format(position) : null,
            Equal: found.IsEqual,
            Tables:
            [
                .. found.Tables.Select(table => new ReconciledTableDocument(
                    Table: table.Into.ToString(),
                    Source: table.Source.ToString(),
                    Position: table.Position is { } at ? format(at) : null,
                    At: table.At is { } seen ? StatusView.Rfc3339(seen) : null,
                    Equal: table.IsEqual,
                    Reason: table.Reason,
                    SourceRows: table.SourceRows,
                    TargetRows: table.TargetRows,
                    Same: table.Same,
                    Missing: table.Missing,
                    Extra: table.Extra,
                    Differing: table.Differing,
                    InFlight: table.InFlight,
                    Listed: withSegments ? table.Rows.Count : (int?)null,
                    More: table.NotListed,
                    NotCompared: table.LeftOut,
                    Segments: withSegments
                        ?
                        [
                            .. table.Segments.Select(segment => new SegmentDocument(
                                From: segment.From,
                                Before: segment.Before,
                                Rows: segment.Rows,
                                State: segment.State.ToString().ToLowerInvariant(),
                                Position: format(segment.Position),
                                InFlight: segment.InFlight
                            )),
                        ]
                        : null
                )),
            ]
        );

    private static RepairDocument Of(Repair repair, Func<LogPosition, string> format, string? comparedAgain = null) =>
        new RepairDocument(
            Id: repair.Id,
            Reconciliation: repair.Reconciliation,
            By: repair.By,
            At: StatusView.Rfc3339(repair.At),
            Position: format(repair.Position),
            Changed: repair.Changed,
            Undoes: repair.Undoes,
            UndoneBy: repair.UndoneBy,
            ComparedAgain: comparedAgain,
            Rows:
            [
                .. repair.Rows.Select(row => new RepairedRowDocument(
                    Table: row.Into.ToString(),
                    Statement: row.Statement,
                    Note: row.Note,
                    Was: row.Before.IsNone ? "missing" : "there",
                    Became: row.After.IsNone ? "missing" : "there"
                )),
            ]
        );
}
