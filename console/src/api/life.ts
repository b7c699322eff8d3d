import { useQuery } from "@tanstack/react-query";
import { api, must, type Schemas } from "./client";

/* A flag's life beyond one environment: bundles, short-lived environments, where code asks, and the end. */

export type Planned = Schemas["Planned"];
export type Bundle = Schemas["Bundle"];
export type BundleView = Schemas["BundleView"];

export function useBundles(project: string) {
  return useQuery({ queryKey: [project, "bundles"], queryFn: () => must(api.GET("/api/v1/projects/{project}/bundles", { params: { path: { project } } })) });
}

export function useBundle(project: string, bundle: string) {
  return useQuery({ queryKey: [project, "bundle", bundle], queryFn: () => must(api.GET("/api/v1/projects/{project}/bundles/{bundle}", { params: { path: { project, bundle } } })) });
}

export function useReadiness(project: string, flag: string, enabled: boolean) {
  return useQuery({ queryKey: [project, "readiness", flag], enabled, queryFn: () => must(api.GET("/api/v1/projects/{project}/flags/{flag}/readiness", { params: { path: { project, flag } } })) });
}

export function useRetiring(project: string) {
  return useQuery({ queryKey: [project, "retiring"], queryFn: () => must(api.GET("/api/v1/projects/{project}/retiring", { params: { path: { project } } })) });
}

export function useCode(project: string) {
  return useQuery({ queryKey: [project, "places"], queryFn: () => must(api.GET("/api/v1/projects/{project}/places", { params: { path: { project } } })) });
}

export function useShortLived(project: string, enabled = true) {
  return useQuery({ queryKey: [project, "short-lived"], enabled, queryFn: () => must(api.GET("/api/v1/projects/{project}/short-lived", { params: { path: { project } } })) });
}
