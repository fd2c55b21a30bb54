using System.Runtime.CompilerServices;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using CsvHelper;
using Vestige.Engine.Events;
using Vestige.Web.Api.Describing;
using Vestige.Web.Api.Documents;
using Vestige.Web.Hosting;
using Vestige.Web.Views;

namespace Vestige.Web.Api;

/// <summary>
/// Events as files, however many there are: CSV (RFC 4180, with a line of names) and JSON Lines (one object a line, UTF-8).
/// </summary>
public static class EventExport
{
    private const int ReadAtOnce = 1000;
    private static readonly JsonSerializerOptions AsTheyAre = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    public static void Map(IEndpointRouteBuilder routes) =>
        routes
            .MapGet(
                "/events/export",
                (
                    ControlStore store,
                    HttpContext context,
                    [AsParameters] EventSearch search,
                    CancellationToken cancellation,
                    string format = "jsonl"
                ) =>
                    (search.Problem, format) switch
                    {
                        ({ } problem, _) => Problems.Of(422, "search", problem, "Correct the search."),
                        (_, "csv") => Results.Stream(
                            stream => CsvAsync(stream, EventsAsync(store, search.Filter, cancellation), cancellation),
                            "text/csv; charset=utf-8",
                            "events.csv"
                        ),
                        (_, "jsonl") => Results.Stream(
                            stream => LinesAsync(stream, EventsAsync(store, search.Filter, cancellation), cancellation),
                            "application/jsonl; charset=utf-8",
                            "events.jsonl"
                        ),
                        _ => Problems.Of(422, "format", $"'{format}' is not a format.", "Use csv or jsonl.", "format"),
                    }
            )
            .WithTags("events")
            .Describe("exportEvents", "What happened, newest first, as CSV or JSON Lines.")
            .Answers<string>(200, "text/csv", "application/jsonl")
            .Refuses(422);

    private static async Task CsvAsync(Stream into, IAsyncEnumerable<CrossingEvent> events, CancellationToken cancellation)
    {
        await using var csv = CsvWriter.Create(into, new CsvWriterOptions(), leaveOpen: true);
        await csv.WriteRecordAsync(["at", "crossing", "connection", "kind", "text", "by"], cancellation);
        await foreach (var happened in events.WithCancellation(cancellation))
        {
            await csv.WriteRecordAsync(
                [
                    StatusView.Rfc3339(happened.At),
                    happened.Crossing ?? "",
                    happened.Connection ?? "",
                    happened.Kind.ToString().ToLowerInvariant(),
                    Cell(happened.Text),
                    Cell(happened.By),
                ],
                cancellation
            );
        }
    }

    /// <summary>A spreadsheet would take such a text for a formula; after an apostrophe it shows it as it is.</summary>
    private static string Cell(string text) => text.Length > 0 && text[0] is '=' or '+' or '-' or '@' or '\t' or '\r' ? $"'{text}" : text;

    private static async Task LinesAsync(Stream into, IAsyncEnumerable<CrossingEvent> events, CancellationToken cancellation)
    {
        await using var text = new StreamWriter(into, new UTF8Encoding(encoderShouldEmitUTF8Identifier: false), leaveOpen: true);
        await foreach (var happened in events.WithCancellation(cancellation))
        {
            var line = new
            {
                at = StatusView.Rfc3339(happened.At),
                crossing = happened.Crossing,
                connection = happened.Connection,
                kind = happened.Kind.ToString().ToLowerInvariant(),
                text = happened.Text,
                by = happened.By,
            };
            await text.WriteAsync(JsonSerializer.Serialize(line, AsTheyAre));
            await text.WriteAsync('\n');
        }
    }

    private static async IAsyncEnumerable<CrossingEvent> EventsAsync(
        ControlStore store,
        EventFilter filter,
        [EnumeratorCancellation] CancellationToken cancellation
    )
    {
        long? before = null;
        while (true)
        {
            var read = await store.EventsAsync(filter, before, ReadAtOnce, cancellation);
            foreach (var stored in read)
            {
                yield return stored.Event;
            }

            if (read.Count < ReadAtOnce)
            {
                yield break;
            }

            before = read[^1].Id;
        }
    }
}
