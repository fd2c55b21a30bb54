using System.Text.Json.Nodes;
using Microsoft.AspNetCore.OpenApi;
using Microsoft.OpenApi;
using Vestige.Web.Connections;

namespace Vestige.Web.Api.Describing;

/// <summary>What the OpenAPI document says of values that their types do not show.</summary>
internal sealed class ApiSchemas(ConnectionDirectory connections) : IOpenApiSchemaTransformer
{
    private const JsonSchemaType Numbers = JsonSchemaType.Integer | JsonSchemaType.Number;

    public Task TransformAsync(OpenApiSchema schema, OpenApiSchemaTransformerContext context, CancellationToken cancellationToken)
    {
        var property = context.JsonPropertyInfo?.AttributeProvider;
        if (property?.GetCustomAttributes(typeof(TimeAttribute), inherit: false).Length > 0)
        {
            schema.Format = "date-time";
        }

        if (property?.GetCustomAttributes(typeof(ChoicesAttribute), inherit: false) is [ChoicesAttribute choices])
        {
            schema.Enum = [.. choices.Words.Select(word => (JsonNode)JsonValue.Create(word))];
        }

        if (property?.GetCustomAttributes(typeof(KindChoicesAttribute), inherit: false).Length > 0)
        {
            schema.Enum = [.. connections.Kinds.Select(kind => (JsonNode)JsonValue.Create(kind.Kind))];
        }

        // Settings are texts to Vestige; a port or a switch may be sent as what it is.
        if (context.JsonPropertyInfo?.CustomConverter is SettingText)
        {
            schema.Type = JsonSchemaType.Object | JsonSchemaType.Null;
            schema.Description = context.JsonPropertyInfo.Name is "settings" or "secret"
                ? FieldsOfKinds(isSecret: context.JsonPropertyInfo.Name == "secret")
                : null;
            schema.AdditionalProperties = new OpenApiSchema
            {
                Type = JsonSchemaType.String | JsonSchemaType.Number | JsonSchemaType.Boolean,
            };
        }

        // Numbers are also accepted as texts; the document says how they are written.
        if (schema.Type is { } type && (type & Numbers) != default && (type & JsonSchemaType.Boolean) == default)
        {
            schema.Type = type & ~JsonSchemaType.String;
            schema.Pattern = null;
        }

        return Task.CompletedTask;
    }

    private string FieldsOfKinds(bool isSecret) =>
        string.Join(
            " ",
            connections
                .Kinds.Select(kind => (kind.Kind, Fields: kind.Fields.Where(field => field.IsSecret == isSecret).ToList()))
                .Where(kind => kind.Fields.Count > 0)
                .Select(kind =>
                    $"For {kind.Kind}: "
                    + $"{string.Join(", ", kind.Fields.Select(field => field.Required ? $"{field.Name} (required)" : field.Name))}."
                )
        );
}
