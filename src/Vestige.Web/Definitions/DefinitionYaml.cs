using System.Globalization;
using System.Text.Json;
using System.Text.Json.Nodes;
using System.Text.Json.Serialization.Metadata;
using Vestige.Core.Crossings;
using Vestige.Web.Api;
using YamlDotNet.Core;
using YamlDotNet.RepresentationModel;

namespace Vestige.Web.Definitions;

/// <summary>
/// Definitions as YAML 1.2 files: the same document as in the API, with the same names. What the file says is turned into the
/// JSON document of the API with the place of every field, so that both are held to the same rules.
/// </summary>
public static class DefinitionYaml
{
    private const int MostCharacters = Hosting.RequestLimits.LongestDefinition;
    private static readonly Dictionary<string, DefinitionLocation> Nowhere = [];

    /// <summary>The file of a definition; reading it gives an equal one.</summary>
    public static string Write(CrossingDefinition definition)
    {
        var document = JsonSerializer.SerializeToNode(definition, DefinitionJson.Options)!;
        using var text = new StringWriter(CultureInfo.InvariantCulture) { NewLine = "\n" };
        new YamlStream(new YamlDocument(NodeOf(document))).Save(text, assignAnchors: false);
        return text.ToString().Replace("\r", "", StringComparison.Ordinal).Replace("\n...\n", "\n", StringComparison.Ordinal);
    }

    public static ReadDefinition Read(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        if (text.Length > MostCharacters)
        {
            return Refused(
                "document",
                $"it has {text.Length} characters",
                $"At most {MostCharacters} are read.",
                new DefinitionLocation(1, 1)
            );
        }

        var places = new Dictionary<string, DefinitionLocation>();
        var values = new Dictionary<string, DefinitionLocation>();
        try
        {
            YamlLimits.Check(text);
            var stream = new YamlStream();
            stream.Load(new StringReader(text));
            if (stream.Documents.Count != 1 || stream.Documents[0].RootNode is not YamlMappingNode root)
            {
                return Refused(
                    "document",
                    stream.Documents.Count == 0 ? "it is empty" : "it is not one mapping",
                    "Write name, purpose, source, target and tables, each on a line of its own.",
                    new DefinitionLocation(1, 1)
                );
            }

            var document = JsonOf(root, "", places, values);
            return new ReadDefinition(document.Deserialize<CrossingDefinition>(DefinitionJson.Options)!, [], places) { Values = values };
        }
        catch (YamlException exception)
        {
            return Refused(
                "document",
                exception.InnerException?.Message ?? exception.Message,
                "Correct the YAML there.",
                PlaceOf(exception.Start)
            );
        }
        catch (Exception exception)
            when (exception is InvalidOperationException or ArgumentException or FormatException or OverflowException)
        {
            // The scanner does not expect some texts, and says so by other exceptions than its own.
            return Refused(
                "document",
                "it is not YAML that can be read",
                "Write it as name: value, one field a line.",
                new DefinitionLocation(1, 1)
            );
        }
        catch (JsonException exception)
        {
            var path = PathOf(exception.Path);
            var (found, remedy) = Explained(exception, path);
            return Refused(
                path.Length == 0 ? "document" : path,
                found,
                remedy,
                new ReadDefinition(null, [], places).PlaceOf(path) ?? new DefinitionLocation(1, 1)
            );
        }
    }

    private static ReadDefinition Refused(string field, string found, string remedy, DefinitionLocation place) =>
        new(null, [new LocatedProblem(new DefinitionProblem(field, found, remedy), place)], Nowhere);

    private static DefinitionLocation PlaceOf(Mark mark) => new((int)mark.Line, (int)mark.Column);

    private static JsonNode? JsonOf(
        YamlNode node,
        string path,
        Dictionary<string, DefinitionLocation> places,
        Dictionary<string, DefinitionLocation> values
    )
    {
        if (!node.Anchor.IsEmpty)
        {
            throw new YamlException(node.Start, node.End, "Anchors and aliases are not taken here; write it out.");
        }

        places.TryAdd(path, PlaceOf(node.Start));
        switch (node)
        {
            case YamlMappingNode mapping:
                var fields = new JsonObject();
                foreach (var (key, value) in mapping.Children)
                {
                    var name = (key as YamlScalarNode)?.Value ?? throw new YamlException(key.Start, key.End, "A field's name is a text.");
                    var field = path.Length == 0 ? name : $"{path}.{name}";
                    places[field] = PlaceOf(key.Start);
                    fields[name] = JsonOf(value, field, places, values);
                }

                return fields;
            case YamlSequenceNode sequence:
                return new JsonArray([.. sequence.Children.Select((child, i) => JsonOf(child, $"{path}[{i}]", places, values))]);
            default:
                var scalar = (YamlScalarNode)node;
                if (
                    scalar.Start.Line == scalar.End.Line
                    && scalar.Style is ScalarStyle.Plain or ScalarStyle.SingleQuoted or ScalarStyle.DoubleQuoted
                )
                {
                    values[path] = new DefinitionLocation(
                        (int)scalar.Start.Line,
                        (int)scalar.Start.Column + (scalar.Style == ScalarStyle.Plain ? 0 : 1)
                    );
                }

                return Scalar(scalar);
        }
    }

    /// <summary>Plain scalars by the core schema (YAML 1.2.2, 10.3): what is quoted is always text.</summary>
    private static JsonValue? Scalar(YamlScalarNode node) =>
        node.Style != ScalarStyle.Plain
            ? JsonValue.Create(node.Value)
            : node.Value switch
            {
                null or "" or "~" or "null" or "Null" or "NULL" => null,
                "true" or "True" or "TRUE" => JsonValue.Create(true),
                "false" or "False" or "FALSE" => JsonValue.Create(false),
                { } number when decimal.TryParse(number, NumberStyles.Float, CultureInfo.InvariantCulture, out var value) =>
                    JsonValue.Create(value),
                { } text => JsonValue.Create(text),
            };

    private static YamlNode NodeOf(JsonNode? node) =>
        node switch
        {
            JsonObject fields => new YamlMappingNode(
                fields.Select(field => KeyValuePair.Create<YamlNode, YamlNode>(new YamlScalarNode(field.Key), NodeOf(field.Value)))
            ),
            JsonArray items => new YamlSequenceNode(items.Select(NodeOf)),
            JsonValue value when value.GetValueKind() == JsonValueKind.String => TextNode(value.GetValue<string>()),
            null => new YamlScalarNode("null"),
            _ => new YamlScalarNode(node.ToJsonString()),
        };

    /// <summary>In quotes where it would be read as something else; as a block where it has several lines.</summary>
    private static YamlScalarNode TextNode(string text)
    {
        if (
            text.Contains('\n', StringComparison.Ordinal)
            && text.Trim() == text
            && text.All(c => c == '\n' || !char.IsControl(c))
            && !text.Contains(" \n", StringComparison.Ordinal)
        )
        {
            return new YamlScalarNode(text) { Style = ScalarStyle.Literal };
        }

        var plain = new YamlScalarNode(text) { Style = ScalarStyle.Plain };
        var isText =
            Scalar(plain) is { } read && read.GetValueKind() == JsonValueKind.String && !text.Any(char.IsControl) && text.Trim() == text;
        return new YamlScalarNode(text) { Style = isText ? ScalarStyle.Any : ScalarStyle.DoubleQuoted };
    }

    /// <summary><c>$.tables.rules[0].take</c> without its beginning.</summary>
    private static string PathOf(string? path) => path is null or "$" ? "" : path.TrimStart('$').TrimStart('.');

    private static (string Found, string Remedy) Explained(JsonException exception, string path)
    {
        var known = string.Join(", ", KnownAt(path[..Math.Max(0, path.LastIndexOf('.'))]));
        return exception.Message switch
        {
            var message when message.Contains(".NET member", StringComparison.Ordinal) => (
                "it is not a field of this document",
                $"Known here are {known}."
            ),
            var message when message.Contains("missing required", StringComparison.Ordinal) => (
                "a field is missing: "
                    + $"{message[(message.LastIndexOf(':') + 1)..].Trim().TrimEnd('.').Replace("'", "", StringComparison.Ordinal)}",
                $"Known here are {string.Join(", ", KnownAt(path))}."
            ),
            _ => ("the field does not take this value", $"Write {WantedAt(path)}."),
        };
    }

    private static IEnumerable<string> KnownAt(string path) =>
        TypeAt(path) is { } type
            ? DefinitionJson
                .Options.GetTypeInfo(type)
                .Properties.Where(property => property.Set is not null || property.AssociatedParameter is not null)
                .Select(property => property.Name)
            : [];

    private static string WantedAt(string path)
    {
        var type = TypeAt(path);
        type = type is null ? null : Nullable.GetUnderlyingType(type) ?? type;
        return type switch
        {
            null => "another value",
            { IsEnum: true } => $"one of {string.Join(", ", Enum.GetNames(type).Select(JsonNamingPolicy.CamelCase.ConvertName))}",
            _ when type == typeof(string) => "a text; in quotes if it looks like a number, true, false or null",
            _ when type == typeof(bool) => "true or false",
            _ when DefinitionJson.Options.GetTypeInfo(type).Kind == JsonTypeInfoKind.Enumerable => "a list, each entry behind a hyphen",
            _ => $"a mapping of {string.Join(", ", KnownAt(path))}",
        };
    }

    /// <summary>The type of the field at a path; null when there is no such field.</summary>
    private static Type? TypeAt(string path)
    {
        var type = typeof(CrossingDefinition);
        foreach (var step in path.Split('.', '[').Where(step => step.Length > 0))
        {
            var info = DefinitionJson.Options.GetTypeInfo(type);
            var next = step.EndsWith(']')
                ? info.ElementType
                : info.Properties.FirstOrDefault(property => property.Name == step)?.PropertyType;
            if (next is null)
            {
                return null;
            }

            type = next;
        }

        return type;
    }
}
