using System.Collections.Frozen;
using System.Text.Json;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Tracing;
using Vestige.Web.Api.Describing;
using Vestige.Web.Api.Documents;
using Vestige.Web.Connections;
using Vestige.Web.Tracing;

namespace Vestige.Web.Api;

/// <summary>Traces over HTTP.</summary>
public static class TraceApi
{
    public static void Map(IEndpointRouteBuilder routes) =>
        routes
            .MapGet("/api/v1/trace", TraceAsync)
            .WithTags("trace")
            .Describe(
                "trace",
                "Every change of a row that the spool holds (table and key), or of a transaction (position), and how far each has "
                    + "come in each crossing."
            )
            .Answers<TraceDocument>()
            .Refuses(404, 409, 422, 424);

    private static async Task<IResult> TraceAsync(
        string connection,
        CrossingEngine engine,
        ConnectionDirectory connections,
        CancellationToken cancellation,
        string? table = null,
        string? key = null,
        string? position = null
    )
    {
        var source = connections.Source(connection);
        if (position is not null)
        {
            return engine.Positions.Parse(connection, position) is { } place
                ? Results.Ok(Of(await engine.Trace.TransactionAsync(connection, place, cancellation), engine, source.Log.Format))
                : Problems.Of(422, "trace", $"'{position}' is not a position of {connection}.", "Write it as the source does.", "position");
        }

        if (table is null || key is null)
        {
            return Problems.Of(
                422,
                "trace",
                "Neither a row nor a transaction is named.",
                "Give table and key, or position.",
                table is null ? "table" : "key"
            );
        }

        var name = TableName.Parse(table);
        var form = (await source.Catalogue.ReadTablesAsync(cancellation)).FirstOrDefault(one => one.Schema.Name == name)?.Schema;
        if (form is null || !form.HasKey)
        {
            return form is null
                ? Problems.NotFound($"table {table} in {connection}")
                : Problems.Of(422, "trace", $"{table} has no key.", "Trace a transaction by its position.", "table");
        }

        return KeyOf(form, key) is { } values
            ? Results.Ok(
                Of(
                    await engine.Trace.RowAsync(connection, name, values, cancellation),
                    engine,
                    source.Log.Format,
                    await RepairsAsync(engine, connection, name, values, cancellation)
                )
            )
            : Problems.Of(
                422,
                "trace",
                $"'{key}' is not a key of {table}.",
                $"Give the value of {form.Columns[form.KeyOrdinals[0]].Name}, or an object with the values of "
                    + $"{string.Join(", ", form.KeyOrdinals.Select(i => form.Columns[i].Name))}.",
                "key"
            );
    }

    /// <summary>One value, or an object with one for each column of the key; null for anything else.</summary>
    private static List<string>? KeyOf(TableSchema form, string key)
    {
        JsonElement parsed;
        try
        {
            parsed = JsonDocument.Parse(key).RootElement;
        }
        catch (JsonException)
        {
            return null;
        }

        if (parsed.ValueKind != JsonValueKind.Object)
        {
            return form.KeyOrdinals.Count == 1 && TextOf(parsed) is { } value ? [value] : null;
        }

        var values = form
            .KeyOrdinals.Select(i => parsed.TryGetProperty(form.Columns[i].Name, out var part) ? TextOf(part) : null)
            .OfType<string>()
            .ToList();
        return values.Count == form.KeyOrdinals.Count ? values : null;
    }

    private static string? TextOf(JsonElement value) =>
        value.ValueKind switch
        {
            JsonValueKind.String => value.GetString(),
            JsonValueKind.Number or JsonValueKind.True or JsonValueKind.False => value.GetRawText(),
            _ => null,
        };

    private static async Task<IReadOnlyList<RowRepair>> RepairsAsync(
        CrossingEngine engine,
        string connection,
        TableName table,
        IReadOnlyList<string> key,
        CancellationToken cancellation
    )
    {
        var found = new List<RowRepair>();
        foreach (
            var status in engine.Statuses.Where(status => status.Definition.Source == connection && status.Definition.Tables.Takes(table))
        )
        {
            found.AddRange(await engine.Reconcile.Repairs.OfRowAsync(status.Name, table, key, cancellation));
        }

        return found;
    }

    private static TraceDocument Of(
        Trace trace,
        CrossingEngine engine,
        Func<Core.Positions.LogPosition, string> format,
        IReadOnlyList<RowRepair>? repairs = null
    ) =>
        new TraceDocument(
            Connection: trace.Connection,
            Table: trace.Table?.ToString(),
            Held: trace.Held,
            Since: trace.Since is { } since ? format(since) : null,
            UpTo: trace.UpTo is { } upTo ? format(upTo) : null,
            More: trace.More,
            Changes: [.. trace.Changes.Select(change => Of(change, engine.Trace.MaskedColumns(trace.Connection, change.Schema), format))],
            Repairs:
            [
                .. (repairs ?? []).Select(one => new TracedRepairDocument(
                    Crossing: one.Repair.Crossing,
                    Repair: one.Repair.Id,
                    Reconciliation: one.Repair.Reconciliation,
                    At: StatusView.Rfc3339(one.Repair.At),
                    By: one.Repair.By,
                    Position: format(one.Repair.Position),
                    Said: one.Words,
                    Statement: one.Row.Statement
                )),
            ]
        );

    private static TracedChangeDocument Of(
        TracedChange change,
        IReadOnlySet<string> masked,
        Func<Core.Positions.LogPosition, string> format
    ) =>
        new TracedChangeDocument(
            Table: change.Schema.Name.ToString(),
            Mark: ChangeSymbols.Of(change.Change.Kind),
            Position: format(change.Position),
            Transaction: change.Transaction,
            CommittedAt: StatusView.Rfc3339(change.CommittedAt),
            CapturedAt: StatusView.Rfc3339(change.CapturedAt),
            SpooledAt: change.SpooledAt is { } spooled ? StatusView.Rfc3339(spooled) : null,
            Origin: change.Origin,
            Before: Values(change.Schema, change.Change.Before, masked),
            After: change.Change.Kind == ChangeKind.Schema ? null : Values(change.Schema, change.Change.After, masked),
            Masked: masked,
            Crossings:
            [
                .. change.Crossings.Select(step => new TracedStepDocument(
                    Crossing: step.Crossing,
                    Stage: char.ToLowerInvariant(step.Stage.ToString()[0]) + step.Stage.ToString()[1..],
                    Said: TraceWords.Of(step),
                    AppliedAt: step.AppliedAt is { } applied ? StatusView.Rfc3339(applied) : null,
                    Quarantine: step.Quarantined?.Id,
                    Decided: step.Decided is { } decided
                        ? new TracedDecisionDocument(
                            What: decided.Dropped ? "dropped" : "edited",
                            By: decided.By,
                            At: StatusView.Rfc3339(decided.At),
                            Words: decided.Words
                        )
                        : null,
                    Problem: step.Problem,
                    Made:
                    [
                        .. step.Made.Select(made => new TracedRowDocument(
                            Table: made.Table.Schema.Name.ToString(),
                            Mark: ChangeSymbols.Of(made.Change.Kind),
                            Row: Values(
                                made.Table.Schema,
                                made.Change.After.IsNone ? made.Change.Before : made.Change.After,
                                FrozenSet<string>.Empty
                            )
                        )),
                    ]
                )),
            ]
        );

    private static Dictionary<string, string?>? Values(TableSchema form, Row row, IReadOnlySet<string> masked) =>
        row.IsNone
            ? null
            : TracedValues
                .Of(form, row, masked)
                .Where(value => value.Value is not null)
                .ToDictionary(value => value.Column, value => value.Value);
}
