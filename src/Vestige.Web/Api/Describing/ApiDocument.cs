using System.Text.Json;
using System.Text.Json.Nodes;
using Microsoft.AspNetCore.OpenApi;
using Microsoft.OpenApi;

namespace Vestige.Web.Api.Describing;

/// <summary>What the OpenAPI document says beside the operations: the title, the tags, and an example of each answer.</summary>
internal sealed class ApiDocument : IOpenApiDocumentTransformer
{
    private static readonly Dictionary<string, string> Tags = new()
    {
        ["connections"] = "How Vestige reaches databases, and what they contain.",
        ["crossings"] = "Definitions, their plans, and starting, stopping and watching them.",
        ["quarantine"] = "Changes that a target refused.",
        ["reconciliations"] = "Comparing both sides, and repairing what differs.",
        ["alerts"] = "What needs a person, and who is notified.",
        ["trace"] = "The journey of a row or a transaction.",
        ["events"] = "What happened, as a file.",
        ["bench"] = "Statements and drills, on connections that take them.",
    };

    public Task TransformAsync(OpenApiDocument document, OpenApiDocumentTransformerContext context, CancellationToken cancellationToken)
    {
        document.Info = new OpenApiInfo
        {
            Title = "Vestige",
            Version = "1",
            Description =
                "Replicates operational databases. Times are RFC 3339 in UTC, durations are seconds, positions are texts in the "
                + "source's own notation. Every refusal is a problem document (RFC 9457) with a stable type, the field at fault and "
                + "what to do.",
        };
        document.Servers = [];
        document.Tags = Tags.Select(tag => new OpenApiTag { Name = tag.Key, Description = tag.Value }).ToHashSet();
        return Task.CompletedTask;
    }

    /// <summary>Answers of a running demo, by operation; and one problem for each status.</summary>
    public static JsonObject Examples { get; } = Read();

    private static JsonObject Read()
    {
        using var stream = typeof(ApiDocument).Assembly.GetManifestResourceStream("Vestige.Web.Api.Describing.examples.json")
            ?? throw new InvalidDataException("The examples are not in the program.");
        return JsonSerializer.Deserialize<JsonObject>(stream)!;
    }
}
