import { stringify } from 'yaml';
import type { Bundle } from '../bundle.js';
import { containerForm } from './container.js';
import { slugOf, versionOf } from './names.js';
import type { PackForm } from './form.js';

const port = 4300;
const adminPort = 9300;

/** Objects for a cluster, beside what the image is built from. */
export const kubernetesForm: PackForm = {
  name: 'kubernetes',
  about: 'objects for a cluster, with what the image is built from',
  entry: 'run',
  make(bundle, options) {
    const image = containerForm.make(bundle, options);
    const name = slugOf(bundle);
    const all = objects(bundle, name, options.publishAs ?? `registry.example/${name}:${versionOf(bundle)}`, options.publicUrl);
    return {
      ...image,
      files: { ...image.files, 'kubernetes.yaml': { text: all.map((each) => stringify(each, { lineWidth: 0 })).join('---\n') } },
      next: [
        ...(bundle.settings.length > 0
          ? [
              `Make the secret first: kubectl create secret generic ${name} ${bundle.settings.map(({ variable }) => `--from-literal=${variable}=…`).join(' ')}`,
            ]
          : []),
        'Build and push the image, name it in kubernetes.yaml, then: kubectl apply -f kubernetes.yaml',
      ],
    };
  },
};

function objects(bundle: Bundle, name: string, image: string, publicUrl: string | undefined): object[] {
  const labels = { 'app.kubernetes.io/name': name };
  const container = containerOf(bundle, name, image, publicUrl);
  return [
    {
      apiVersion: 'apps/v1',
      kind: 'Deployment',
      metadata: { name, labels },
      spec: {
        // A session lives in one process: more of them need the service to keep clients to theirs, as below, or a shared store.
        replicas: 2,
        selector: { matchLabels: labels },
        strategy: { type: 'RollingUpdate', rollingUpdate: { maxUnavailable: 0, maxSurge: 1 } },
        template: {
          metadata: { labels, annotations: { 'prometheus.io/scrape': 'true', 'prometheus.io/port': String(adminPort) } },
          spec: {
            automountServiceAccountToken: false,
            terminationGracePeriodSeconds: 30,
            securityContext: { seccompProfile: { type: 'RuntimeDefault' } },
            containers: [container],
            volumes: [{ name: 'tmp', emptyDir: {} }],
          },
        },
      },
    },
    {
      apiVersion: 'v1',
      kind: 'Service',
      metadata: { name, labels },
      spec: {
        selector: labels,
        ports: [{ name: 'http', port: 80, targetPort: 'http' }],
        sessionAffinity: 'ClientIP',
        sessionAffinityConfig: { clientIP: { timeoutSeconds: 10_800 } },
      },
    },
    {
      apiVersion: 'policy/v1',
      kind: 'PodDisruptionBudget',
      metadata: { name, labels },
      spec: { maxUnavailable: 1, selector: { matchLabels: labels } },
    },
  ];
}

function containerOf({ settings }: Bundle, name: string, image: string, publicUrl: string | undefined): object {
  const args = [
    '--http',
    String(port),
    '--host',
    '0.0.0.0',
    '--open',
    '--admin-port',
    String(adminPort),
    '--admin-host',
    '0.0.0.0',
    '--metrics',
    '--drain',
    '5',
  ];
  const probe = (path: string) => ({ httpGet: { path, port: 'admin' } });
  return {
    name: 'server',
    image,
    args: [...args, ...(publicUrl === undefined ? [] : ['--public-url', publicUrl])],
    ports: [
      { name: 'http', containerPort: port },
      { name: 'admin', containerPort: adminPort },
    ],
    ...(settings.length > 0 && {
      env: settings.map(({ variable }) => ({ name: variable, valueFrom: { secretKeyRef: { name, key: variable } } })),
    }),
    livenessProbe: { ...probe('/health'), periodSeconds: 10, failureThreshold: 3 },
    readinessProbe: { ...probe('/ready'), periodSeconds: 3, failureThreshold: 1 },
    startupProbe: { ...probe('/ready'), periodSeconds: 1, failureThreshold: 60 },
    resources: { requests: { cpu: '50m', memory: '128Mi' }, limits: { memory: '512Mi' } },
    securityContext: {
      allowPrivilegeEscalation: false,
      readOnlyRootFilesystem: true,
      runAsNonRoot: true,
      runAsUser: 1000,
      capabilities: { drop: ['ALL'] },
    },
    volumeMounts: [{ name: 'tmp', mountPath: '/tmp' }],
  };
}
