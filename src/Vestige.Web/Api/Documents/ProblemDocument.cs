using System.Text.Json.Serialization;

namespace Vestige.Web.Api.Documents;

/// <summary>Why a request was refused (RFC 9457), with what to do. What one kind of problem does not have is left out.</summary>
public sealed record ProblemDocument(string Type, string Title, int Status, string Detail)
{
    /// <summary>The request's number in traces (W3C Trace Context).</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? TraceId { get; init; }

    /// <summary>What to do.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? Remedy { get; init; }

    /// <summary>The field, parameter or header at fault.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? Field { get; init; }

    /// <summary>The line of a YAML definition, from 1.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public int? Line { get; init; }

    /// <summary>The column of a YAML definition, from 1.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public int? Column { get; init; }

    /// <summary>Everything that is wrong with a definition; the first is the one in detail.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<FieldProblemDocument>? Problems { get; init; }

    /// <summary>What must hold before a start, line by line.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<ReadinessView>? Lines { get; init; }

    /// <summary>What would be lost on the target.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<string>? Losses { get; init; }

    /// <summary>Tables that a change of a definition would add.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<string>? Added { get; init; }

    /// <summary>Tables that it would remove.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<string>? Removed { get; init; }

    /// <summary>Tables that it would load again.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<string>? Reloaded { get; init; }

    /// <summary>Whether it would pause and resume the crossing.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public bool? Restarts { get; init; }
}
