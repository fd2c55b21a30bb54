using System.Collections.Frozen;
using System.Text.Json;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Supervision;
using Vestige.Engine.Tracing;
using Vestige.Web.Connections;
using Vestige.Web.Tracing;

namespace Vestige.Web.Api;

/// <summary>Traces over HTTP.</summary>
public static class TraceApi
{
    public static void Map(IEndpointRouteBuilder routes) =>
        routes.MapGet("/api/v1/trace", TraceAsync).WithTags("trace").WithSummary("Every change of a row within the spool (table and key), or of a transaction (position), and how far each has come in each crossing.");

    private static async Task<IResult> TraceAsync(string connection, CrossingEngine engine, ConnectionDirectory connections, CancellationToken cancellation, string? table = null, string? key = null, string? position = null)
    {
        var source = connections.Source(connection);
        if (position is not null)
        {
            return source.Parse(position) is { } place
                ? Results.Ok(Of(await engine.Trace.TransactionAsync(connection, place, cancellation), engine, source.Format))
                : Problems.Of(422, "trace", $"'{position}' is not a position of {connection}.", "Write it as the source does.", "position");
        }

        if (table is null || key is null)
        {
            return Problems.Of(422, "trace", "Neither a row nor a transaction is named.", "Give table and key, or position.", table is null ? "table" : "key");
        }

        var name = TableName.Parse(table);
        var form = (await source.ReadTablesAsync(cancellation)).FirstOrDefault(one => one.Schema.Name == name)?.Schema;
        if (form is null || !form.HasKey)
        {
            return form is null ? Problems.NotFound($"table {table} in {connection}") : Problems.Of(422, "trace", $"{table} has no key.", "Trace a transaction by its position.", "table");
        }

        return KeyOf(form, key) is { } values
            ? Results.Ok(Of(await engine.Trace.RowAsync(connection, name, values, cancellation), engine, source.Format, await RepairsAsync(engine, connection, name, values, cancellation)))
            : Problems.Of(422, "trace", $"'{key}' is not a key of {table}.", $"Give the value of {form.Columns[form.KeyOrdinals[0]].Name}, or an object with the values of {string.Join(", ", form.KeyOrdinals.Select(i => form.Columns[i].Name))}.", "key");
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

        var values = form.KeyOrdinals.Select(i => parsed.TryGetProperty(form.Columns[i].Name, out var part) ? TextOf(part) : null).OfType<string>().ToList();
        return values.Count == form.KeyOrdinals.Count ? values : null;
    }

    private static string? TextOf(JsonElement value) => value.ValueKind switch
    {
        JsonValueKind.String => value.GetString(),
        JsonValueKind.Number or JsonValueKind.True or JsonValueKind.False => value.GetRawText(),
        _ => null,
    };

    private static async Task<IReadOnlyList<RowRepair>> RepairsAsync(CrossingEngine engine, string connection, TableName table, IReadOnlyList<string> key, CancellationToken cancellation)
    {
        var found = new List<RowRepair>();
        foreach (var status in engine.Statuses.Where(status => status.Definition.Source == connection && status.Definition.Tables.Takes(table)))
        {
            found.AddRange(await engine.Reconcile.Repairs.OfRowAsync(status.Name, table, key, cancellation));
        }

        return found;
    }

    private static object Of(Trace trace, CrossingEngine engine, Func<Core.Positions.LogPosition, string> format, IReadOnlyList<RowRepair>? repairs = null) => new
    {
        connection = trace.Connection,
        table = trace.Table?.ToString(),
        held = trace.Held,
        since = trace.Since is { } since ? format(since) : null,
        upTo = trace.UpTo is { } upTo ? format(upTo) : null,
        more = trace.More,
        changes = trace.Changes.Select(change => Of(change, engine.Trace.MaskedColumns(trace.Connection, change.Form), format)),
        repairs = (repairs ?? []).Select(one => new
        {
            crossing = one.Repair.Crossing,
            repair = one.Repair.Id,
            reconciliation = one.Repair.Reconciliation,
            at = StatusView.Rfc3339(one.Repair.At),
            by = one.Repair.By,
            position = format(one.Repair.Position),
            said = one.Words,
            statement = one.Row.Statement,
        }),
    };

    private static object Of(TracedChange change, IReadOnlySet<string> masked, Func<Core.Positions.LogPosition, string> format) => new
    {
        table = change.Form.Name.ToString(),
        mark = ChangeMarks.Of(change.Change.Kind),
        position = format(change.Position),
        transaction = change.Transaction,
        committedAt = StatusView.Rfc3339(change.CommittedAt),
        capturedAt = StatusView.Rfc3339(change.CapturedAt),
        spooledAt = change.SpooledAt is { } spooled ? StatusView.Rfc3339(spooled) : null,
        origin = change.Origin,
        before = Values(change.Form, change.Change.Before, masked),
        after = change.Change.Kind == ChangeKind.Schema ? null : Values(change.Form, change.Change.After, masked),
        masked = masked,
        crossings = change.Crossings.Select(step => new
        {
            crossing = step.Crossing,
            stage = char.ToLowerInvariant(step.Stage.ToString()[0]) + step.Stage.ToString()[1..],
            said = TraceWords.Of(step),
            appliedAt = step.AppliedAt is { } applied ? StatusView.Rfc3339(applied) : null,
            quarantine = step.Quarantined?.Id,
            decided = step.Decided is { } decided ? new { what = decided.Dropped ? "dropped" : "edited", by = decided.By, at = StatusView.Rfc3339(decided.At), words = decided.Words } : null,
            problem = step.Problem,
            made = step.Made.Select(made => new { table = made.Table.Form.Name.ToString(), mark = ChangeMarks.Of(made.Change.Kind), row = Values(made.Table.Form, made.Change.After.IsNone ? made.Change.Before : made.Change.After, FrozenSet<string>.Empty) }),
        }),
    };

    private static Dictionary<string, string?>? Values(TableSchema form, Row row, IReadOnlySet<string> masked) =>
        row.IsNone ? null : TracedValues.Of(form, row, masked).Where(value => value.Value is not null).ToDictionary(value => value.Column, value => value.Value);
}
