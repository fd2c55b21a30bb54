using System.Globalization;
using CsvHelper;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Supervision;
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
        group.MapPost("/", StartAsync).WithSummary("Compares both sides; body: tables, from, before, sample, changed, all optional. Answers with the id.");
        group.MapGet("/", ListAsync).WithSummary("The comparisons, the latest first.");
        group.MapGet("/{id}", GetAsync).WithSummary("What was found, table by table, with its segments.");
        group.MapGet("/{id}/rows", RowsAsync).WithSummary("The rows of a table of the target that differ, with both sides; of a value under a mask only type and length.");
        group.MapGet("/{id}/rows.csv", CsvAsync).WithSummary("All listed rows that differ, as CSV.");
        group.MapGet("/{id}/summary.json", SummaryAsync).WithSummary("What was found, without rows, signed: a JWS (RFC 7515) by this installation's key, with its public part.");
        group.MapPost("/{id}/cancel", (string name, string id, CrossingEngine engine, CancellationToken cancellation) => CancelAsync(name, id, engine, cancellation)).WithSummary("Gives a comparison up that is at work; what it found stays.");
        group.MapPost("/{id}/repair", RepairAsync).WithSummary("Repairs rows: of a table, those at the given places or all; rows that only the target has are deleted only with delete=NAME of the crossing. The table is compared again at once (comparedAgain is the id).");
        var repairs = routes.MapGroup("/api/v1/crossings/{name}/repairs").WithTags("reconciliations");
        repairs.MapGet("/", async (string name, CrossingEngine engine, ConnectionDirectory connections, CancellationToken cancellation) => engine.Status(name) is { } status
            ? Results.Ok((await engine.Reconcile.Repairs.ListAsync(name, cancellation)).Select(repair => Of(repair, CrossingApi.FormatOf(status, connections))))
            : Problems.NotFound($"crossing {name}")).WithSummary("The repairs, the latest first.");
        repairs.MapPost("/{id}/undo", async (string name, string id, CrossingEngine engine, ConnectionDirectory connections, CancellationToken cancellation) => engine.Status(name) is { } status
            ? await UndoAsync(status, id, engine, connections, cancellation)
            : Problems.NotFound($"crossing {name}")).WithSummary("Puts the rows of a repair back, as far as they have not changed since.");
    }

    private static async Task<IResult> StartAsync(string name, ReconciliationBody? body, CrossingEngine engine, CancellationToken cancellation)
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

        var id = await engine.Reconcile.StartAsync(name, new ComparisonScope(tables, body?.From, body?.Before, body?.Sample, body?.Changed ?? false), By, cancellation);
        return Results.Accepted($"/api/v1/crossings/{name}/reconciliations/{id}", new { id });
    }

    private static async Task<IResult> ListAsync(string name, CrossingEngine engine, ConnectionDirectory connections, CancellationToken cancellation) => engine.Status(name) is { } status
        ? Results.Ok((await engine.Reconcile.ListAsync(name, cancellation)).Select(one => Of(one, CrossingApi.FormatOf(status, connections), withSegments: false)))
        : Problems.NotFound($"crossing {name}");

    private static async Task<IResult> GetAsync(string name, string id, CrossingEngine engine, ConnectionDirectory connections, CancellationToken cancellation) =>
        await FoundAsync(name, id, engine, cancellation) is { } found ? Results.Ok(Of(found.Found, CrossingApi.FormatOf(found.Status, connections), withSegments: true)) : Problems.NotFound($"comparison {id} of {name}");

    private static async Task<IResult> RowsAsync(string name, string id, CrossingEngine engine, CancellationToken cancellation, string? table = null, int after = -1, int limit = 100)
    {
        if (await FoundAsync(name, id, engine, cancellation) is not { } found)
        {
            return Problems.NotFound($"comparison {id} of {name}");
        }

        if (found.Found.Tables.FirstOrDefault(one => table is null || one.Into.ToString() == table || one.Source.ToString() == table) is not { } chosen)
        {
            return Problems.Of(422, "field", $"{table} was not compared.", "Name a table of the comparison.", "table");
        }

        var rows = chosen.Rows.Select((row, place) => new DifferenceView(chosen, row, place)).Skip(Math.Max(0, after + 1)).Take(Math.Clamp(limit, 1, MostListed));
        return Results.Ok(new
        {
            table = chosen.Into.ToString(),
            total = chosen.Rows.Count,
            more = chosen.NotListed,
            rows = rows.Select(row => new
            {
                place = row.Place,
                kind = row.Word,
                key = row.Key,
                columns = row.Row.Columns,
                times = row.Row.Times,
                cause = row.Row.Cause,
                values = row.Values.Select(value => new { column = value.Column, expected = Text(value.Expected), found = Text(value.Found), differs = value.Differs, masked = value.Masked }),
                statement = engine.Reconcile.Repairs.StatementFor(name, chosen, row.Row),
            }),
        });
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
                foreach (var row in found.Found.Tables.SelectMany(table => table.Rows.Select((row, place) => new DifferenceView(table, row, place))))
                {
                    foreach (var value in row.Row.Columns.Count > 0 ? row.Values.Where(value => value.Differs) : row.Values)
                    {
                        await csv.WriteRecordAsync([row.Table.Into.ToString(), row.Word, row.Key, value.Column, Text(value.Expected) ?? "", Text(value.Found) ?? "", row.Row.Times.ToString(CultureInfo.InvariantCulture), row.Row.Cause ?? ""], cancellation);
                    }
                }
            },
            "text/csv; charset=utf-8",
            $"{name}-{id}.csv");
    }

    private static async Task<IResult> SummaryAsync(string name, string id, CrossingEngine engine, ConnectionDirectory connections, SummarySigner signer, CancellationToken cancellation) =>
        await FoundAsync(name, id, engine, cancellation) is { } found
            ? Results.File(signer.Sign(Of(found.Found, CrossingApi.FormatOf(found.Status, connections), withSegments: false)), "application/json", $"{name}-{id}.json")
            : Problems.NotFound($"comparison {id} of {name}");

    private static async Task<IResult> CancelAsync(string name, string id, CrossingEngine engine, CancellationToken cancellation)
    {
        if (engine.Reconcile.Running(name)?.Id != id)
        {
            return Problems.NotFound($"comparison {id} of {name} at work");
        }

        await engine.Reconcile.CancelAsync(name, By, cancellation);
        return Results.Ok(new { id });
    }

    private static async Task<IResult> RepairAsync(string name, string id, RepairBody body, CrossingEngine engine, ConnectionDirectory connections, CancellationToken cancellation)
    {
        if (await FoundAsync(name, id, engine, cancellation) is not { } found)
        {
            return Problems.NotFound($"comparison {id} of {name}");
        }

        if (body.Delete is not null && body.Delete != name)
        {
            throw new RequestRefusedException($"Rows that only the target has are deleted only with delete: {name}.") { Mend = "Give the crossing's name, or leave the field out." };
        }

        var chosen = found.Found.Tables
            .Where(table => body.Table is null || table.Into.ToString() == body.Table)
            .SelectMany(table => table.Rows.Select((_, place) => (table.Into, place)))
            .Where(one => body.Rows is null || body.Rows.Contains(one.place))
            .ToHashSet();
        var repair = await engine.Reconcile.Repairs.RepairAsync(name, found.Found, chosen, body.Delete is not null, By, cancellation);
        return Results.Ok(Of(repair, CrossingApi.FormatOf(found.Status, connections), await engine.Reconcile.CompareAgainAsync(name, repair, By, cancellation)));
    }

    private static async Task<IResult> UndoAsync(CrossingStatus status, string id, CrossingEngine engine, ConnectionDirectory connections, CancellationToken cancellation)
    {
        var repair = await engine.Reconcile.Repairs.UndoAsync(status.Name, id, By, cancellation);
        return Results.Ok(Of(repair, CrossingApi.FormatOf(status, connections), await engine.Reconcile.CompareAgainAsync(status.Name, repair, By, cancellation)));
    }

    private static async Task<(CrossingStatus Status, Reconciliation Found)?> FoundAsync(string name, string id, CrossingEngine engine, CancellationToken cancellation) =>
        engine.Status(name) is { } status && await engine.Reconcile.FindAsync(name, id, cancellation) is { } found ? (status, found) : null;

    private static string? Text(IReadOnlyList<(string Text, bool Differs)>? pieces) => pieces is null ? null : string.Concat(pieces.Select(piece => piece.Text));

    private static object Of(Reconciliation found, Func<LogPosition, string> format, bool withSegments) => new
    {
        id = found.Id,
        crossing = found.Crossing,
        state = found.State.ToString().ToLowerInvariant(),
        note = found.Note,
        by = found.By,
        beganAt = StatusView.Rfc3339(found.BeganAt),
        endedAt = found.EndedAt is { } ended ? StatusView.Rfc3339(ended) : null,
        scope = new { tables = found.Scope.Tables.Select(table => table.ToString()), from = found.Scope.From, before = found.Scope.Before, sample = found.Scope.Sample, changed = found.Scope.Changed },
        position = found.Position is { } position ? format(position) : null,
        equal = found.IsEqual,
        tables = found.Tables.Select(table => new
        {
            table = table.Into.ToString(),
            source = table.Source.ToString(),
            position = table.Position is { } at ? format(at) : null,
            at = table.At is { } seen ? StatusView.Rfc3339(seen) : null,
            equal = table.IsEqual,
            reason = table.Reason,
            sourceRows = table.SourceRows,
            targetRows = table.TargetRows,
            same = table.Same,
            missing = table.Missing,
            extra = table.Extra,
            differing = table.Differing,
            inFlight = table.InFlight,
            listed = withSegments ? table.Rows.Count : (int?)null,
            more = table.NotListed,
            notCompared = table.LeftOut,
            segments = withSegments ? table.Segments.Select(segment => new { from = segment.From, before = segment.Before, rows = segment.Rows, state = segment.State.ToString().ToLowerInvariant(), position = format(segment.Position), inFlight = segment.InFlight }) : null,
        }),
    };

    private static object Of(Repair repair, Func<LogPosition, string> format, string? comparedAgain = null) => new
    {
        id = repair.Id,
        reconciliation = repair.Reconciliation,
        by = repair.By,
        at = StatusView.Rfc3339(repair.At),
        position = format(repair.Position),
        changed = repair.Changed,
        undoes = repair.Undoes,
        undoneBy = repair.UndoneBy,
        comparedAgain,
        rows = repair.Rows.Select(row => new { table = row.Into.ToString(), statement = row.Statement, note = row.Note, was = row.Before.IsNone ? "missing" : "there", became = row.After.IsNone ? "missing" : "there" }),
    };
}
