using System.Reflection;
using System.Text.Json.Nodes;
using Microsoft.AspNetCore.Mvc.ApiExplorer;
using Microsoft.AspNetCore.OpenApi;
using Microsoft.OpenApi;
using Vestige.Web.Definitions;

namespace Vestige.Web.Api.Describing;

/// <summary>
/// What the OpenAPI document says of each operation that its handler does not show: headers, words that are taken, refusals, examples.
/// </summary>
internal sealed class ApiOperations : IOpenApiOperationTransformer
{
    private static readonly Dictionary<int, string> Refusals = new()
    {
        [400] = "The request cannot be read.",
        [403] = "The request came from a page of another site.",
        [404] = "What is named does not exist.",
        [409] = "What is asked does not go with the present state, or has to be confirmed.",
        [412] = "The definition has changed since it was read.",
        [413] = "The body is too large.",
        [415] = "The body's content type is not accepted.",
        [422] = "A field has a value that cannot be used.",
        [424] = "A database cannot be reached, or refused what was asked.",
        [428] = "If-Match is missing.",
        [503] = "The store of this installation is busy.",
        [507] = "The disk of this installation is full.",
    };

    private static readonly Dictionary<string, string> Parameters = new()
    {
        ["name"] = "The name: lower-case letters, digits and hyphens.",
        ["connection"] = "The name of a connection.",
        ["drill"] = "The name of a drill, as the list gives it.",
        ["id"] = "The id, as a list gives it.",
        ["number"] = "The alert's number.",
        ["limit"] = "The most to return.",
        ["skip"] = "How many to pass over.",
        ["all"] = "Whether the first version of each table is listed as well.",
        ["after"] = "The last one of the page before.",
        ["find"] = "Only those whose name contains this.",
        ["table"] = "A table, as schema.table.",
        ["hours"] = "How many hours back.",
        ["undoHours"] = "For how many hours what is dropped can be restored; without it, it is dropped at once.",
        ["keep"] = "Whether the copies on the target stay.",
        ["key"] = "The key as JSON: 7, or {\"a\": 1, \"b\": \"x\"}.",
        ["position"] = "A position in the source's notation.",
        ["role"] = "What the database is to be.",
        ["window"] = "Seconds back from now.",
        ["confirm"] = "Confirms what the request would cost: true, or the name where something is destroyed.",
        ["like"] = "All changes of the same cause.",
        ["standing"] = "Only alerts that are raised.",
        ["format"] = "csv or jsonl.",
        ["Crossing"] = "Only events of this crossing.",
        ["Text"] = "Only events that contain this text.",
        ["Kind"] = "note, warning or fault.",
        ["From"] = "Not before this time, in UTC.",
        ["To"] = "Before this time, in UTC.",
        ["Before"] = "Only events before the one of this number.",
    };

    public Task TransformAsync(OpenApiOperation operation, OpenApiOperationTransformerContext context, CancellationToken cancellationToken)
    {
        DescribeParameters(operation, context.Description);
        if (context.Description.ActionDescriptor.EndpointMetadata.OfType<IfMatchNeeded>().Any())
        {
            operation.Parameters!.Add(
                new OpenApiParameter
                {
                    Name = "If-Match",
                    In = ParameterLocation.Header,
                    Required = true,
                    Description = "The ETag of the definition that was read, or * for any.",
                    Schema = new OpenApiSchema { Type = JsonSchemaType.String },
                    Example = JsonValue.Create("\"7\""),
                }
            );
        }

        AddRefusals(operation, context);
        DescribeYaml(operation);
        AddExamples(operation);
        return Task.CompletedTask;
    }

    /// <summary>What every operation may answer beside its own refusals.</summary>
    private static void AddRefusals(OpenApiOperation operation, OpenApiOperationTransformerContext context)
    {
        IEnumerable<int> common = [400, 503, 507];
        common = context.Description.HttpMethod is "GET" ? common : common.Append(403);
        common = operation.RequestBody is null ? common : common.Concat([413, 415]);
        operation.Responses ??= [];
        foreach (var status in common.Select(status => $"{status}").Where(status => !operation.Responses.ContainsKey(status)))
        {
            var problem = new OpenApiMediaType { Schema = new OpenApiSchemaReference(nameof(Documents.ProblemDocument), context.Document) };
            operation.Responses.Add(
                status,
                new OpenApiResponse { Content = new Dictionary<string, OpenApiMediaType> { [Operations.ProblemType] = problem } }
            );
        }

        foreach (var (status, response) in operation.Responses)
        {
            response.Description = Refusals.GetValueOrDefault(
                int.Parse(status, System.Globalization.CultureInfo.InvariantCulture),
                "Done."
            );
        }
    }

    private static void DescribeParameters(OpenApiOperation operation, ApiDescription description)
    {
        operation.Parameters ??= [];
        foreach (var parameter in operation.Parameters.OfType<OpenApiParameter>())
        {
            parameter.Description ??= Parameters.GetValueOrDefault(parameter.Name!);
            var described = description.ParameterDescriptions.FirstOrDefault(one => one.Name == parameter.Name);
            if (
                described?.ParameterDescriptor
                    is Microsoft.AspNetCore.Mvc.Infrastructure.IParameterInfoParameterDescriptor { ParameterInfo: { } info }
                && info.GetCustomAttribute<ChoicesAttribute>() is { } choices
            )
            {
                parameter.Schema = new OpenApiSchema
                {
                    Type = JsonSchemaType.String,
                    Enum = [.. choices.Words.Select(word => (JsonNode)JsonValue.Create(word))],
                };
            }
        }
    }

    /// <summary>A definition as YAML is a text to a client.</summary>
    private static void DescribeYaml(OpenApiOperation operation)
    {
        var contents = operation.Responses!.Values.Select(response => response.Content).Append(operation.RequestBody?.Content);
        foreach (var content in contents)
        {
            if (content?.TryGetValue(DefinitionBody.Yaml, out var yaml) == true)
            {
                yaml.Schema = new OpenApiSchema { Type = JsonSchemaType.String };
            }
        }

        if (operation.OperationId == "getCrossing" && operation.Responses["200"] is OpenApiResponse response200)
        {
            response200.Headers = new Dictionary<string, IOpenApiHeader>
            {
                ["ETag"] = new OpenApiHeader
                {
                    Description = "Its version, for If-Match.",
                    Schema = new OpenApiSchema { Type = JsonSchemaType.String },
                },
            };
        }
    }

    private static void AddExamples(OpenApiOperation operation)
    {
        var mine = ApiDocument.Examples[operation.OperationId!] as JsonObject;
        Add(operation.RequestBody?.Content, mine?["request"]);
        foreach (var (status, response) in operation.Responses!)
        {
            Add(response.Content, status[0] == '2' ? mine?["answer"] : ApiDocument.Examples["problems"]![status]);
        }
    }

    private static void Add(IDictionary<string, OpenApiMediaType>? content, JsonNode? example)
    {
        foreach (var (type, media) in content ?? new Dictionary<string, OpenApiMediaType>())
        {
            var isText = example is JsonValue;
            if (example is not null && isText != type.EndsWith("json", StringComparison.Ordinal))
            {
                media.Example = example.DeepClone();
            }
        }
    }
}
