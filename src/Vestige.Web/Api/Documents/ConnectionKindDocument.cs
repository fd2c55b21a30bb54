using Vestige.Engine.Ports;

namespace Vestige.Web.Api.Documents;

/// <summary>A kind of connection: what it is called, what has to be given for one, and what it can do.</summary>
public sealed record ConnectionKindDocument(
    string Kind,
    string Title,
    string? About,
    IReadOnlyList<string> Can,
    IReadOnlyList<SettingFieldDocument> Fields
)
{
    public static ConnectionKindDocument Of(IConnectorKind kind)
    {
        ArgumentNullException.ThrowIfNull(kind);
        return new ConnectionKindDocument(
            Kind: kind.Kind,
            Title: kind.Title,
            About: kind.About,
            Can: [.. kind.Can.Select(capability => capability.ToString().ToLowerInvariant())],
            Fields: [.. kind.Fields.Select(SettingFieldDocument.Of)]
        );
    }
}
